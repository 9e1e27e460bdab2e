package follow

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/wire"
)

// known is what a proxy has been told so far.
type known struct {
	Server    string                     `json:"server"` // that told it
	Revision  uint                       `json:"revision"`
	Services  map[string]*rules.Service  `json:"services"`
	Rest      *rules.Rules               `json:"rest"` // all of the rules but the services
	Instances map[string]engine.Instance `json:"instances"`
	Calls     []string                   `json:"calls,omitzero"` // when the proxy is told of these services alone
	Drills    []wire.Drill               `json:"drills,omitempty"`
}

// with is what is known after a snapshot. k itself does not change.
func (k known) with(s wire.Snapshot) known {
	next := known{k.Server, k.Revision, maps.Clone(k.Services), k.Rest, maps.Clone(k.Instances), k.Calls, k.Drills}
	if s.Whole || k.Services == nil {
		next.Services, next.Rest, next.Calls = map[string]*rules.Service{}, &rules.Rules{}, s.Calls
		if s.Settled || k.Instances == nil {
			next.Instances = map[string]engine.Instance{}
		}
	}
	if s.Revision > 0 || s.Whole {
		next.Revision = s.Revision
	}
	if s.Drills != nil {
		next.Drills = s.Drills
	}
	for _, v := range s.Services {
		next.Services[v.Name] = v
	}
	for _, name := range s.GoneServices {
		delete(next.Services, name)
	}
	if s.Rest != nil {
		next.Rest = s.Rest
	}
	for _, in := range s.Instances {
		next.Instances[in.ID] = in
	}
	for _, id := range s.GoneInstances {
		delete(next.Instances, id)
	}
	return next
}

// copied is what is known, apart from later changes of the health of instances.
func (k known) copied() known {
	k.Instances = maps.Clone(k.Instances)
	return k
}

// rules are all of the rules that are known.
func (k known) rules() *rules.Rules {
	rs := *k.Rest
	for _, name := range slices.Sorted(maps.Keys(k.Services)) {
		rs.Services = append(rs.Services, k.Services[name])
	}
	return &rs
}

func (k known) instances() []engine.Instance {
	return slices.Collect(maps.Values(k.Instances))
}

// keptFormat is the first word of a file of what is known; another program's
// file has another.
const keptFormat = "nightjar-known-1"

// save writes what is known to a file, whole or not at all.
func (k known) save(path string) (err error) {
	body, err := json.Marshal(k)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(path), filepath.Base(path)+".*.new")
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			os.Remove(f.Name())
		}
	}()
	_, err = fmt.Fprintf(f, "%s %08x\n%s", keptFormat, crc32.ChecksumIEEE(body), body)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(f.Name(), path)
}

// recall reads what save wrote, and when it was last known to be up to date,
// which is the time of the file. What another service told does not count.
func recall(path, server string) (k known, at time.Time, err error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return k, at, err
	}
	head, body, _ := bytes.Cut(text, []byte("\n"))
	var sum uint32
	if n, _ := fmt.Sscanf(string(head), keptFormat+" %x", &sum); n != 1 || crc32.ChecksumIEEE(body) != sum {
		return k, at, fmt.Errorf("%s is damaged, or of another program version", path)
	}
	if err := json.Unmarshal(body, &k); err != nil || k.Services == nil || k.Rest == nil || k.Instances == nil {
		return k, at, fmt.Errorf("%s is damaged, or of another program version", path)
	}
	if k.Server != server {
		return k, at, fmt.Errorf("%s was told by %s, not by %s", path, k.Server, server)
	}
	info, err := os.Stat(path)
	if err != nil {
		return k, at, err
	}
	return k, info.ModTime(), nil
}
