package follow

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"maps"
	"net"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strconv"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/wire"
)

// known is what a proxy has been told so far.
type known struct {
	Server    string                     `json:"server"` // that told it
	Mesh      string                     `json:"mesh,omitempty"`
	Revision  uint                       `json:"revision"`
	Services  map[string]*rules.Service  `json:"services"`
	Rest      *rules.Rules               `json:"rest"` // all of the rules but the services
	Instances map[string]engine.Instance `json:"instances"`
	Calls     []string                   `json:"calls,omitzero"` // when the proxy is told of these services alone
	Drills    []wire.Drill               `json:"drills,omitempty"`
	Drains    []wire.Drain               `json:"drains,omitempty"`
}

// add learns what a snapshot says.
func (k *known) add(s wire.Snapshot) {
	if s.Whole || k.Services == nil {
		k.Services, k.Rest, k.Calls = map[string]*rules.Service{}, &rules.Rules{}, s.Calls
		if s.Settled || k.Instances == nil {
			k.Instances = map[string]engine.Instance{}
		}
	}
	if s.Whole && s.Mesh != "" {
		k.Mesh = s.Mesh
	}
	if s.Revision > 0 || s.Whole {
		k.Revision = s.Revision
	}
	if s.Drills != nil {
		k.Drills = s.Drills
	}
	if s.Drains != nil {
		k.Drains = s.Drains
	}
	for _, v := range s.Services {
		k.Services[v.Name] = v
	}
	for _, name := range s.GoneServices {
		delete(k.Services, name)
	}
	if s.Rest != nil {
		k.Rest = s.Rest
	}
	for _, in := range s.Instances {
		k.Instances[in.ID] = in
	}
	for _, id := range s.GoneInstances {
		delete(k.Instances, id)
	}
}

// check tells what is wrong with what was read.
func (k known) check() error {
	if k.Services == nil || k.Rest == nil || k.Instances == nil {
		return errors.New("services, rest or instances are missing")
	}
	if at := nullIn(reflect.ValueOf(k), "it"); at != "" {
		return fmt.Errorf("%s is null", at)
	}
	for name, s := range k.Services {
		if name == "" || s.Name != name {
			return fmt.Errorf("service %q is called %q", name, s.Name)
		}
	}
	for id, in := range k.Instances {
		_, port, err := net.SplitHostPort(in.Address)
		if _, bad := strconv.ParseUint(port, 10, 16); in.ID != id || in.Service == "" || err != nil || bad != nil {
			return fmt.Errorf("instance %q of service %q at %q makes no sense", id, in.Service, in.Address)
		}
	}
	return nil
}

// nullIn finds a null in a list or a map, where there must be something; empty:
// there is none.
func nullIn(v reflect.Value, at string) string {
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			return nullIn(v.Elem(), at)
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if !v.Type().Field(i).IsExported() {
				continue
			}
			if null := nullIn(v.Field(i), at+"."+v.Type().Field(i).Name); null != "" {
				return null
			}
		}
	case reflect.Slice, reflect.Array:
		for i := range v.Len() {
			if null := nullOr(v.Index(i), fmt.Sprintf("%s[%d]", at, i)); null != "" {
				return null
			}
		}
	case reflect.Map:
		for each := v.MapRange(); each.Next(); {
			if null := nullOr(each.Value(), fmt.Sprintf("%s[%v]", at, each.Key())); null != "" {
				return null
			}
		}
	}
	return ""
}

func nullOr(v reflect.Value, at string) string {
	if v.Kind() == reflect.Pointer && v.IsNil() {
		return at
	}
	return nullIn(v, at)
}

// copied is what is known, apart from what is learned later.
func (k known) copied() known {
	k.Services, k.Instances = maps.Clone(k.Services), maps.Clone(k.Instances)
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
	if err := json.Unmarshal(body, &k); err != nil {
		return k, at, fmt.Errorf("%s is damaged, or of another program version: %w", path, err)
	}
	if err := k.check(); err != nil {
		return k, at, fmt.Errorf("%s is damaged, or of another program version: %w", path, err)
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
