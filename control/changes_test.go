package control

import (
	"strings"
	"testing"

	"nightjar/store"
)

// TestChangesOfARevision: each is compared with the one before it, also when numbers are
// left out between them, as after a restored backup.
func TestChangesOfARevision(t *testing.T) {
	dir := t.TempDir()
	st, err := store.Open(dir, "test")
	if err != nil {
		t.Fatal(err)
	}
	for number, text := range map[uint]string{1: "services: {s: {versions: [v1]}}", 9: "services: {s: {versions: [v1], timeout: 2s}}"} {
		files := store.Bundles{"main": {{Name: "a.yaml", Text: text}}}
		if err := st.Apply(t.Context(), store.AddRevision{Revision: store.Revision{Number: number, Kind: "publish", Bundle: "main", Bundles: files}}); err != nil {
			t.Fatal(err)
		}
	}
	if err := st.Close(); err != nil {
		t.Fatal(err)
	}
	k := reopen(t, dir)
	for _, c := range []struct {
		number, before uint
		total          int
		path           string
	}{{1, 0, 2, "services.s"}, {9, 1, 1, "services.s.timeout"}, {0, 1, 1, "services.s.timeout"}} {
		got, err := k.Revisions.Changes(t.Context(), c.number)
		if err != nil || got.Before != c.before || got.Total != c.total || !strings.HasPrefix(got.Changes[0].Path, c.path) {
			t.Errorf("revision %d: %+v, %v", c.number, got, err)
		}
	}
	if _, err := k.Revisions.Changes(t.Context(), 5); err == nil || !strings.Contains(err.Error(), "revision 5") {
		t.Errorf("a revision that never was: %v", err)
	}
}
