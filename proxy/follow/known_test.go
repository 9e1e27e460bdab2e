package follow

import (
	"fmt"
	"hash/crc32"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/wire"
)

// TestKnown: parts add up, a whole snapshot starts anew, and an unsettled one
// forgets no instance.
func TestKnown(t *testing.T) {
	service := func(names ...string) (out []*rules.Service) {
		for _, n := range names {
			out = append(out, &rules.Service{Name: n})
		}
		return out
	}
	peers := func(ids ...string) (out []engine.Instance) {
		for _, id := range ids {
			out = append(out, engine.Instance{ID: id})
		}
		return out
	}
	k := known{Server: "here"}
	for i, c := range []struct {
		s    wire.Snapshot
		want string
	}{
		{wire.Snapshot{Whole: true, Revision: 3, Services: service("a", "b"), Instances: peers("x", "y"), Calls: []string{"a"}, Settled: true}, "3 [a b] [x y] [a]"},
		{wire.Snapshot{Services: service("c"), GoneServices: []string{"a"}, Revision: 4}, "4 [b c] [x y] [a]"},
		{wire.Snapshot{Instances: peers("z"), GoneInstances: []string{"x"}}, "4 [b c] [y z] [a]"},
		{wire.Snapshot{Whole: true, Revision: 5, Services: service("d"), Instances: peers("w")}, "5 [d] [w y z] []"},
		{wire.Snapshot{Whole: true, Revision: 5, Services: service("d"), Instances: peers("w"), Settled: true}, "5 [d] [w] []"},
	} {
		before, was := k.copied(), fmt.Sprint(len(k.Services), len(k.Instances))
		k.add(c.s)
		if fmt.Sprint(len(before.Services), len(before.Instances)) != was {
			t.Errorf("%d: a copy of what was known before changed", i)
		}
		var services, instances []string
		for _, s := range k.rules().Services {
			services = append(services, s.Name)
		}
		for _, id := range []string{"w", "x", "y", "z"} {
			if _, ok := k.Instances[id]; ok {
				instances = append(instances, id)
			}
		}
		if got := fmt.Sprint(k.Revision, " ", services, " ", instances, " ", k.Calls); got != c.want {
			t.Errorf("%d: %s, want %s", i, got, c.want)
		}
	}
}

// TestKeptOnDisk: what is read is what was written, or nothing.
func TestKeptOnDisk(t *testing.T) {
	path := filepath.Join(t.TempDir(), "sub", "k.json")
	k := known{Server: "here"}
	k.add(wire.Snapshot{Whole: true, Revision: 3, Rest: &rules.Rules{}, Services: []*rules.Service{{Name: "a"}}, Instances: []engine.Instance{{ID: "x", Service: "a", Address: "127.0.0.1:1"}}, Calls: []string{}})
	at := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	if err := k.save(path); err != nil {
		t.Fatal(err)
	}
	if err := os.Chtimes(path, at, at); err != nil {
		t.Fatal(err)
	}
	got, when, err := recall(path, "here")
	if err != nil || !when.Equal(at) || got.Revision != 3 || got.Services["a"] == nil || len(got.Instances) != 1 || got.Calls == nil {
		t.Errorf("%+v, %v, %v", got, when, err)
	}
	if _, _, err := recall(path, "there"); err == nil || !strings.Contains(err.Error(), "told by here") {
		t.Errorf("of another service: %v", err)
	}
	whole, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	for i := range whole { // cut off anywhere, or one bit changed
		for _, bad := range [][]byte{whole[:i], append(append([]byte{}, whole[:i]...), append([]byte{whole[i] ^ 4}, whole[i+1:]...)...)} {
			if err := os.WriteFile(path, bad, 0o600); err != nil {
				t.Fatal(err)
			}
			if k, _, err := recall(path, "here"); err == nil && (k.Revision != 3 || len(k.Services) != 1) {
				t.Fatalf("%q is taken for %+v", bad, k)
			}
		}
	}
	if err := k.save("/dev/full/k.json"); err == nil {
		t.Error("kept where nothing can be kept")
	}
	if left, _ := filepath.Glob(filepath.Join(filepath.Dir(path), "*.new")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

// TestSenselessFiles: a file whose checksum is right and whose contents make no sense
// is refused with a reason, and the proxy goes on without it.
func TestSenselessFiles(t *testing.T) {
	path := filepath.Join(t.TempDir(), "k.json")
	const in = `"instances": {"x": {"id": "x", "service": "a", "version": "v1", "address": "127.0.0.1:1"}}`
	for body, words := range map[string]string{
		`null`: "are missing",
		`{"services": {"a": null}, "rest": {}, ` + in + `}`:                                                            "Services[a] is null",
		`{"services": {"a": {"name": "b"}}, "rest": {}, ` + in + `}`:                                                   `service "a" is called "b"`,
		`{"services": {"a": {"name": "a", "routes": [null]}}, "rest": {}, ` + in + `}`:                                 "Routes[0] is null",
		`{"services": {}, "rest": {"gateways": [null]}, ` + in + `}`:                                                   "Gateways[0] is null",
		`{"services": {}, "rest": {}, "instances": {"x": {"id": "y", "service": "a", "address": "h:1"}}}`:              "makes no sense",
		`{"services": {}, "rest": {}, "instances": {"x": {"id": "x", "service": "a", "address": "h:port"}}}`:           "makes no sense",
		`{"services": {"a": {"name": "a", "routes": [{"name": "r", "send": [{"version": "v9"}]}]}}, "rest": {}, ` + in: "unexpected end",
	} {
		text := fmt.Sprintf("%s %08x\n%s", keptFormat, crc32.ChecksumIEEE([]byte(body)), body)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, _, err := recall(path, ""); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%s: %v, want %q", body, err, words)
		}
	}
	// What passes so far and cannot be compiled hurts nobody either.
	if _, err := compile(&rules.Rules{Services: []*rules.Service{nil}}, nil, engine.Options{}); err == nil {
		t.Error("rules that make no sense were compiled")
	}
}

// TestForeignMesh: a proxy goes on with the rules that it has when the service comes
// with another store, or an older state of its own, until a person says otherwise.
func TestForeignMesh(t *testing.T) {
	service := func(name string) []*rules.Service { return []*rules.Service{{Name: name}} }
	whole := func(mesh string, revision uint, name string) wire.Snapshot {
		return wire.Snapshot{Whole: true, Settled: true, Mesh: mesh, Revision: revision, Rest: &rules.Rules{}, Services: service(name)}
	}
	f := newFollower(t)
	follows := func(want string) {
		t.Helper()
		f.mu.Lock()
		defer f.mu.Unlock()
		if f.known.Services[want] == nil || len(f.known.Services) != 1 {
			t.Errorf("it follows %v, want %s", f.known.Services, want)
		}
	}
	for _, c := range []struct {
		s       wire.Snapshot
		refused string
		follows string
	}{
		{whole("one", 9, "first"), "", "first"}, // the first mesh that says which it is
		{whole("one", 10, "second"), "", "second"},
		{whole("two", 0, "empty"), "mesh one at revision 10", "second"},
		{wire.Snapshot{Revision: 1, Services: service("more")}, "mesh one", "second"}, // news of what was refused
		{whole("two", 99, "foreign"), "mesh two", "second"},
		{whole("one", 8, "older"), "older records", "second"},
		{wire.Snapshot{Revision: 9, Services: service("more")}, "older records", "second"},
		{wire.Snapshot{Revision: 11, Services: service("more")}, errAnew.Error(), "second"}, // a person published
		{whole("one", 10, "again"), "", "again"},                                            // the right one is back
	} {
		err := f.apply(c.s)
		if (err == nil) != (c.refused == "") || err != nil && !strings.Contains(err.Error(), c.refused) || (f.Refuses() != nil) != (err != nil) {
			t.Errorf("%+v: %v", c.s, err)
		}
		follows(c.follows)
	}
	if f.permit("two") {
		t.Error("it takes another mesh, though it follows its own")
	}
	f.apply(whole("two", 0, "empty"))
	if !f.permit("two") || f.permit("two") {
		t.Error("what a person says is not heard once")
	}
	if err := f.apply(whole("two", 0, "taken")); err != nil {
		t.Error(err)
	}
	follows("taken")
	if err := f.apply(whole("one", 11, "first")); err == nil {
		t.Error("the mesh before is followed again without a word")
	}
}
