package standin

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"nightjar/core/rules"
)

func TestStandin(t *testing.T) {
	var got http.Header
	var host string
	proxy := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		got, host = r.Header, r.Host
		if r.URL.Path == "/broken" {
			w.WriteHeader(http.StatusBadGateway)
			return
		}
		w.Write([]byte(`{"version":"v2"}`))
	}))
	defer proxy.Close()
	ask := func(p Profile) (int, answer) {
		s := New("kiosk", "v1", "kiosk-a", "quay", strings.TrimPrefix(proxy.URL, "http://"), p)
		r := httptest.NewRequest("GET", "/board", nil)
		r.Header.Set("X-Crew", "yes")
		r.Header.Set("Cookie", "berth=A1")
		r.Header.Set("Traceparent", "00-1-2-01")
		r.Header.Set("X-Other", "stays")
		w := httptest.NewRecorder()
		s.ServeHTTP(w, r)
		var a answer
		if err := json.Unmarshal(w.Body.Bytes(), &a); err != nil {
			t.Fatal(err)
		}
		return w.Code, a
	}
	status, a := ask(Profile{Calls: []Call{{Service: "sailings", Path: "/x", Needed: true}}, Board: []string{"22:40"}})
	if status != 200 || a.Version != "v1" || a.Board[0] != "22:40" || len(a.Calls) != 1 || a.Calls[0] != (called{"sailings", "v2", 200}) {
		t.Errorf("%d %+v", status, a)
	}
	if host != "sailings" || got.Get("X-Crew") != "yes" || got.Get("Cookie") != "berth=A1" || got.Get("Traceparent") == "" || got.Get("X-Other") != "" {
		t.Errorf("passed on to %s: %v", host, got)
	}
	if status, a := ask(Profile{Calls: []Call{{Service: "fares", Path: "/broken"}}}); status != 200 || a.Calls[0].Status != 502 {
		t.Errorf("a call that is not needed: %d %+v", status, a)
	}
	if status, a := ask(Profile{Calls: []Call{{Service: "fares", Path: "/broken", Needed: true}}}); status != 502 || a.Error != "fares answered 502" {
		t.Errorf("a call that is needed: %d %+v", status, a)
	}
	if status, _ := ask(Profile{Errors: 1}); status != 500 {
		t.Errorf("an error: %d", status)
	}
}

func TestStandInWorksOnSoManyAtOnce(t *testing.T) {
	s := New("s", "v1", "a", "", "", Profile{Median: 30 * time.Millisecond, AtOnce: 1})
	srv := httptest.NewServer(s)
	defer srv.Close()
	began, done := time.Now(), make(chan struct{})
	for range 3 {
		go func() {
			if resp, err := http.Get(srv.URL); err == nil {
				resp.Body.Close()
			}
			done <- struct{}{}
		}()
	}
	for range 3 {
		<-done
	}
	if took := time.Since(began); took < 90*time.Millisecond {
		t.Errorf("three requests of 30 ms each, one at a time, took %v", took)
	}
}

// TestTheSampleFits: the sample's rules have no mistake, and name every
// version that the sample runs.
func TestTheSampleFits(t *testing.T) {
	live := rules.Live{Known: true, Versions: map[string][]string{}}
	for _, in := range Ferry() {
		live.Versions[in.Service] = append(live.Versions[in.Service], in.Version)
	}
	gateway, outside, err := Ports("127.0.0.1:7700")
	if err != nil {
		t.Fatal(err)
	}
	m := Mesh{Gateway: gateway, Outside: outside}
	rs, found := rules.Check(m.Rules(), live)
	if len(found) > 0 {
		t.Fatal(found[0].Text())
	}
	if g := rs.Gateway(GatewayName); g.Listen != "127.0.0.1:7780" || !slices.Contains(g.Hosts, Host) {
		t.Errorf("gateway %+v", g)
	}
	if at := rs.Service("harbour-office").Instances[0].URL; at != "http://127.0.0.1:7790" {
		t.Errorf("harbour office at %s", at)
	}
	for service, versions := range live.Versions {
		for _, v := range versions {
			if !rs.Service(service).HasVersion(v) {
				t.Errorf("the rules do not name %s/%s", service, v)
			}
		}
	}
	for _, bad := range []string{"127.0.0.1", "127.0.0.1:0", "127.0.0.1:65500", "x:y"} {
		if _, _, err := Ports(bad); err == nil {
			t.Errorf("%s was taken for an address", bad)
		}
	}
}
