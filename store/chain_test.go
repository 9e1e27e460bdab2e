package store

import (
	"fmt"
	"strings"
	"testing"
	"time"
)

// TestChain: a log that only grew is whole, whatever became old meanwhile; one in which
// something was changed, removed, put in or moved is not, and says where.
func TestChain(t *testing.T) {
	st, err := Open(t.TempDir(), "test")
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	at := time.Date(2026, 11, 30, 6, 0, 0, 0, time.UTC)
	exec := func(text string, args ...any) {
		t.Helper()
		if err := st.write.Exec(text, args...).Error; err != nil {
			t.Fatal(err)
		}
	}
	verify := func() Chain {
		t.Helper()
		var c Chain
		if err := st.EachActivity(t.Context(), ActivityFilter{}, c.Add); err != nil {
			t.Fatal(err)
		}
		return c
	}
	// Two entries of an earlier program, without hashes.
	exec("INSERT INTO activity (at, who, kind, service, version, instance, detail) VALUES (?, 'mara', 'publish', '', '', '', 'a'), (?, 'mara', 'split', '', '', '', 'b')", at, at)
	for i := range 1200 { // with a time that is not the order, as proxies report it
		a := Activity{At: at.Add(time.Duration(i%7) * time.Hour).Add(123456789), Who: "mara", Kind: "publish", Detail: fmt.Sprint(i), Result: ResultDone}
		if err := st.Apply(t.Context(), AddActivity{a, {At: at, Who: "kiosk-1", Kind: "breaker-opened", Site: "north"}}); err != nil {
			t.Fatal(err)
		}
	}
	if c := verify(); c.Fault != "" || c.Unchained != 2 || c.First != 3 || c.Last != 2402 || len(c.Head) != 64 {
		t.Fatalf("untouched: %+v", c)
	}
	for _, c := range []struct{ what, change, back, want string }{
		{"changed", "UPDATE activity SET who = 'nils' WHERE number = 50", "UPDATE activity SET who = 'kiosk-1' WHERE number = 50", "entry 50 was changed"},
		{"a result that was changed", "UPDATE activity SET result = 'refused' WHERE number = 51", "UPDATE activity SET result = 'done' WHERE number = 51", "entry 51 was changed"},
		{"a site that was taken", "UPDATE activity SET site = '' WHERE number = 50", "UPDATE activity SET site = 'north' WHERE number = 50", "entry 50 was changed"},
		{"a hash that was taken", "UPDATE activity SET hash = '' WHERE number = 3", "", "entries before 4 have lost"},
	} {
		var before activityRow
		st.write.Raw("SELECT * FROM activity WHERE number = 3").Scan(&before)
		exec(c.change)
		if got := verify(); !strings.Contains(got.Fault, c.want) {
			t.Errorf("%s: %+v", c.what, got)
		}
		if c.back != "" {
			exec(c.back)
		} else {
			exec("UPDATE activity SET hash = ? WHERE number = 3", before.Hash)
		}
	}
	if c := verify(); c.Fault != "" {
		t.Fatalf("put back: %+v", c)
	}
	// Retention takes the oldest alone, up to the first that is to stay.
	for range 10 {
		_, change, err := st.Old(t.Context(), KeptActivity, at.Add(90*time.Minute), 200)
		if err != nil {
			t.Fatal(err)
		}
		if change == nil {
			break
		}
		if err := st.Apply(t.Context(), change); err != nil {
			t.Fatal(err)
		}
	}
	if c := verify(); c.Fault != "" || c.First != 7 || c.Last != 2402 {
		t.Errorf("after the oldest went: %+v", c)
	}
	exec("DELETE FROM activity WHERE number = 100")
	if got := verify(); !strings.Contains(got.Fault, "missing between 99 and 101") {
		t.Errorf("removed: %+v", got)
	}
	exec("UPDATE activity SET number = 100 WHERE number = 2402")
	if got := verify(); !strings.Contains(got.Fault, "entry 100 was changed") {
		t.Errorf("moved: %+v", got)
	}
}
