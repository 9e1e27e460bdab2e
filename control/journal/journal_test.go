package journal

import (
	"context"
	"errors"
	"fmt"
	"testing"

	"nightjar/store"
)

// TestPaging: entries are listed newest first, page by page, and at most
// maxPending wait to be written.
func TestPaging(t *testing.T) {
	st, err := store.Open(t.TempDir(), "test")
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	j := New(st)
	for i := range maxPending + 10 {
		j.Add(store.Activity{Who: "w", Kind: "k", Service: "s", Detail: fmt.Sprint(i)})
	}
	newest, err := j.List(t.Context(), "s", 0, 3)
	if err != nil || len(newest) != 3 || newest[0].Detail != fmt.Sprint(maxPending+9) {
		t.Fatalf("%+v, %v", newest, err)
	}
	next, err := j.List(t.Context(), "", newest[2].Number, 3)
	if err != nil || next[0].Detail != fmt.Sprint(maxPending+6) {
		t.Errorf("%+v, %v", next, err)
	}
	if oldest, _ := j.List(t.Context(), "", 2, 3); len(oldest) != 1 || oldest[0].Detail != "10" {
		t.Errorf("the oldest is %+v", oldest)
	}
}

// failing is a store that cannot write.
type failing struct{ Records }

func (failing) Apply(context.Context, ...store.Change) error { return errors.New("disk full") }

// TestFailedWrite: entries that cannot be written stay, in their order.
func TestFailedWrite(t *testing.T) {
	j := New(failing{})
	j.Add(store.Activity{Detail: "a"}, store.Activity{Detail: "b"})
	if err := j.Write(t.Context()); err == nil {
		t.Error("a failed write is not reported")
	}
	j.Add(store.Activity{Detail: "c"})
	if got := fmt.Sprint(j.pending[0].Detail, j.pending[1].Detail, j.pending[2].Detail); len(j.pending) != 3 || got != "abc" {
		t.Errorf("pending: %s", got)
	}
}
