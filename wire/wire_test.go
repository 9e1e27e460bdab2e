package wire

import (
	"encoding/json"
	"reflect"
	"testing"

	"nightjar/core/stats"
)

func sample() Delta {
	return Delta{Nonce: "n", Sequence: 3, Caller: "kiosk", Series: SeriesList{
		{Revision: 7, Service: "berths", Version: "v1", Instance: "berths-v1-a", Route: "all", RouteOf: "berths", Gate: "home", Counts: stats.Counts{OK: 300, Tries: 301, Latency: []stats.Bin{{Bucket: 1, N: 2}, {Bucket: 900, N: 298}}}},
		{App: true, Copy: true, Caller: "kiösk", Service: "berths", Counts: stats.Counts{Failed: 1, Reasons: [16]uint64{15: 1}}}}}
}

func TestSeriesKeep(t *testing.T) {
	b, err := json.Marshal(sample())
	if err != nil {
		t.Fatal(err)
	}
	var got Delta
	if err := json.Unmarshal(b, &got); err != nil || !reflect.DeepEqual(got, sample()) {
		t.Errorf("%v\n%+v\nwant\n%+v", err, got, sample())
	}
}

func FuzzSeries(f *testing.F) {
	text, _ := sample().Series.MarshalText()
	f.Add(text)
	f.Fuzz(func(t *testing.T, text []byte) {
		var l, again SeriesList
		if l.UnmarshalText(text) != nil {
			return
		}
		text, _ = l.MarshalText()
		if err := again.UnmarshalText(text); err != nil || len(again) != len(l) {
			t.Fatalf("what was written cannot be read: %v", err)
		}
	})
}

func TestFilters(t *testing.T) {
	for _, bad := range []Filter{{Status: "6xx"}, {Status: "99"}, {Status: "x"}, {Status: "xx"}, {Reason: "ghost"}, {Outcome: "fine"}, {SlowerMS: -1}, {Header: "=x"}, {Header: "a b"}, {Header: "a:b"}, {Path: "x"}} {
		if bad.Check() == nil {
			t.Errorf("%+v has sense", bad)
		}
	}
	for _, good := range []Filter{{}, {Status: "503"}, {Status: "5xx"}, {Reason: "overflow"}, {Outcome: NotOK}, {Header: "x-crew"}, {Header: "x-crew=a=b"}, {Path: "/"}} {
		if err := good.Check(); err != nil {
			t.Errorf("%+v: %v", good, err)
		}
	}
	r := Record{Caller: "kiosk", Service: "berths", Version: "v1", Gate: "home", Method: "GET", Path: "/berths/free", Status: 503, Outcome: "refused", Reason: "fault", MS: 20.5, Segments: []Segment{{Kind: "attempt"}, {Kind: "backoff"}, {Kind: "attempt"}}}
	for _, f := range []Filter{{}, {From: "kiosk", To: "berths", Version: "v1", Route: "home", Method: "get", Path: "/berths"}, {Status: "503", Reason: "fault"}, {Status: "5xx", Outcome: NotOK}, {Outcome: "refused", Attempts: 2, SlowerMS: 20}} {
		if !f.Takes(&r) {
			t.Errorf("%+v does not take it", f)
		}
	}
	for _, f := range []Filter{{From: "x"}, {To: "x"}, {Version: "v2"}, {Instance: "x"}, {Route: "x"}, {Method: "POST"}, {Path: "/x"}, {Status: "500"}, {Status: "4xx"}, {Reason: "timeout"}, {Outcome: "ok"}, {Attempts: 3}, {SlowerMS: 21}} {
		if f.Takes(&r) {
			t.Errorf("%+v takes it", f)
		}
	}
	if name, value, has := (&Filter{Header: "x-crew=a=b"}).HeaderTest(); name != "X-Crew" || value != "a=b" || !has {
		t.Errorf("%q %q %v", name, value, has)
	}
}
