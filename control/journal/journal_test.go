package journal

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"nightjar/api/model"
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
	if err := st.Apply(t.Context(), store.AddRevision{Revision: store.Revision{Number: 1, Touched: []string{"t"}, At: time.Now()}}); err != nil {
		t.Fatal(err)
	}
	j := New(st)
	for i := range maxPending + 10 {
		j.Add(t.Context(), store.Activity{Who: "w", Kind: "k", Service: "s", Detail: fmt.Sprint(i)})
	}
	j.Add(
		t.Context(),
		store.Activity{Who: "Mara", Kind: "publish", Revision: 1},
		store.Activity{Who: "mara", Kind: "drill-started", Service: "s"},
		store.Activity{Who: "s-1", Kind: "breaker-opened", Service: "t"},
		store.Activity{Who: "s-1", Kind: "joined", Service: "t"},
	)
	for _, c := range []struct {
		f    model.ActivityFilter
		want string
	}{
		{model.ActivityFilter{Who: "mAR"}, "drill-started publish"},
		{model.ActivityFilter{Who: "a", About: model.AboutRules}, "publish"},
		{model.ActivityFilter{Who: "a", About: model.AboutDrills}, "drill-started"},
		{model.ActivityFilter{Service: "t", About: model.AboutGuards}, "breaker-opened"},
		{model.ActivityFilter{Service: "t", About: model.AboutProxies}, "joined"},
		{model.ActivityFilter{Service: "t"}, "joined breaker-opened publish"},
		{model.ActivityFilter{Service: "u"}, ""},
	} {
		c.f.Limit = 10
		list, err := j.List(t.Context(), c.f)
		var kinds []string
		for _, e := range list {
			kinds = append(kinds, e.Kind)
		}
		if got := strings.Join(kinds, " "); got != c.want || err != nil {
			t.Errorf("%+v: %s, %v; want %s", c.f, got, err, c.want)
		}
	}
	if _, err := j.List(t.Context(), model.ActivityFilter{About: "weather"}); err == nil || !strings.Contains(err.Error(), "rules, drills, proxies, people or guards") {
		t.Errorf("about the weather: %v", err)
	}
	newest, err := j.List(t.Context(), model.ActivityFilter{Service: "s", Who: "w", Limit: 3})
	if err != nil || len(newest) != 3 || newest[0].Detail != fmt.Sprint(maxPending+9) {
		t.Fatalf("%+v, %v", newest, err)
	}
	next, err := j.List(t.Context(), model.ActivityFilter{Before: newest[2].Number, Limit: 3})
	if err != nil || next[0].Detail != fmt.Sprint(maxPending+6) {
		t.Errorf("%+v, %v", next, err)
	}
	if oldest, _ := j.List(t.Context(), model.ActivityFilter{Before: 2, Limit: 3}); len(oldest) != 1 || oldest[0].Detail != "14" {
		t.Errorf("the oldest is %+v", oldest)
	}
}

// failing is a store that cannot write.
type failing struct{ Records }

func (failing) Apply(context.Context, ...store.Change) error { return errors.New("disk full") }

// TestFailedWrite: entries that cannot be written stay, in their order.
func TestFailedWrite(t *testing.T) {
	j := New(failing{})
	j.Add(t.Context(), store.Activity{Detail: "a"}, store.Activity{Detail: "b"})
	if err := j.Write(t.Context()); err == nil {
		t.Error("a failed write is not reported")
	}
	j.Add(t.Context(), store.Activity{Detail: "c"})
	if got := fmt.Sprint(j.pending[0].Detail, j.pending[1].Detail, j.pending[2].Detail); len(j.pending) != 3 || got != "abc" {
		t.Errorf("pending: %s", got)
	}
}
