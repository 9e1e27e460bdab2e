package follow

import (
	"fmt"
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
		before := fmt.Sprint(len(k.Services), len(k.Instances))
		next := k.with(c.s)
		if fmt.Sprint(len(k.Services), len(k.Instances)) != before {
			t.Errorf("%d: what was known before changed", i)
		}
		k = next
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
	k := known{Server: "here"}.with(wire.Snapshot{Whole: true, Revision: 3, Rest: &rules.Rules{}, Services: []*rules.Service{{Name: "a"}}, Instances: []engine.Instance{{ID: "x"}}, Calls: []string{}})
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
