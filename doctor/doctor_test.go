package doctor

import (
	"strings"
	"testing"
	"time"

	"nightjar/api/model"
	"nightjar/store"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// healthy is the facts of a service with which nothing is wrong.
func healthy() Facts {
	return Facts{
		Now: noon.Add(300 * time.Millisecond), Server: "127.0.0.1:7600", ServiceTime: noon,
		Records:   &store.Inspection{Dir: "/data", Exists: true, Mode: 0o700, HeldBy: "process 7", Database: 5 << 20, Free: 100 << 30},
		Mesh:      &model.Mesh{Gateways: []model.Gateway{{Name: "door", IsRunning: true}}},
		Fleet:     &model.Fleet{Proxies: []model.Proxy{{ID: "a", Program: "1", State: model.ProxyCurrent, Started: noon.Add(-time.Hour), Certificate: &model.Certificate{Expires: noon.Add(20 * time.Hour)}}}},
		Authority: &model.Authority{Domain: "d", Phase: "steady", LifeSeconds: 24 * 3600, Signer: model.AuthoritySigner{Expires: noon.AddDate(1, 0, 0)}, Roots: []model.AuthorityRoot{{Signs: true, Expires: noon.AddDate(9, 0, 0)}}},
		Newest:    &model.Revision{Number: 3, At: noon.Add(-time.Hour)},
	}
}

// TestExamine spoils one fact at a time: that one is found, said with what to do, and
// nothing else is.
func TestExamine(t *testing.T) {
	if rep := Examine(healthy()); rep.Problems != 0 || len(rep.Findings) != 6 {
		t.Errorf("nothing is wrong, and it says %+v", rep.Findings)
	}
	for _, c := range []struct {
		area, severity, want string
		spoil                func(f *Facts)
	}{
		{"records", Problem, "no directory /data", func(f *Facts) { f.Records.Exists, f.IsNamed = false, true }},
		{"records", Note, "no records in /data", func(f *Facts) { f.Records.Exists = false }},
		{"records", Problem, "cannot be read: it is damaged", func(f *Facts) { f.Records.Error = "it is damaged" }},
		{"records", Problem, "Others can read /data (mode 755)", func(f *Facts) { f.Records.Mode = 0o755 }},
		{"records", Problem, "has 500 MiB left", func(f *Facts) { f.Records.Free = 500 << 20 }},
		{"records", Problem, "writes are about to fail", func(f *Facts) { f.Records.Free = 5 << 20 }},
		{"records", Problem, "log of the database has 300 MiB", func(f *Facts) { f.Records.Log = 300 << 20 }},
		{"records", Note, "database has 5120 MiB", func(f *Facts) { f.Records.Database = 5 << 30 }},
		{"records", Note, "records of another one", func(f *Facts) { f.Records.HeldBy, f.IsNamed = "", true }},
		{"service", Problem, "No service answers at 127.0.0.1:7600: refused", func(f *Facts) { *f = Facts{Server: f.Server, Unreachable: "refused", Records: f.Records} }},
		{"service", Problem, "not ready: the disk is full", func(f *Facts) { f.NotReady = "the disk is full\n" }},
		{"service", Note, "7 requests were counted without names", func(f *Facts) { f.Mesh.Other = 7 }},
		{"clock", Problem, "1m0s ahead of", func(f *Facts) { f.Now = noon.Add(-time.Minute) }},
		{"clock", Problem, "1h0m0s behind", func(f *Facts) { f.Now = noon.Add(time.Hour) }},
		{"clock", Problem, "was set back", func(f *Facts) { f.Newest.At = noon.Add(time.Hour) }},
		{"clock", Problem, "clocks are ahead: a", func(f *Facts) { f.Fleet.Proxies[0].Started = noon.Add(time.Minute) }},
		{"proxies", Problem, "do not follow the service: a (older records)", func(f *Facts) {
			f.Fleet.Proxies[0].State, f.Fleet.Proxies[0].Rejection = model.ProxyRejecting, "older records"
		}},
		{"proxies", Problem, "newest revision for more than 30 s: a", func(f *Facts) { f.Fleet.Proxies[0].State, f.Fleet.Proxies[0].LagMS = model.ProxyBehind, 31_000 }},
		{"proxies", Problem, "not connected: a", func(f *Facts) { f.Fleet.Proxies[0].State = model.ProxyDisconnected }},
		{"proxies", Problem, "health checks of these workloads fail: a (500)", func(f *Facts) { f.Fleet.Proxies[0].Unhealthy = "500" }},
		{"proxies", Problem, "has a problem: listener: busy", func(f *Facts) { f.Fleet.Proxies[0].Problems = []model.ProxyProblem{{Kind: "listener", Detail: "busy"}} }},
		{"proxies", Problem, "not renewed in time: a", func(f *Facts) { f.Fleet.Proxies[0].Certificate.Expires = noon.Add(time.Hour) }},
		{"proxies", Note, "different programs: 1 (1), 2 (1)", func(f *Facts) {
			f.Fleet.Proxies = append(f.Fleet.Proxies, model.Proxy{Program: "2", State: model.ProxyCurrent})
		}},
		{"authority", Problem, "expires in 48h0m0s", func(f *Facts) { f.Authority.Signer.Expires = noon.Add(48 * time.Hour) }},
		{"authority", Problem, "Root r expires", func(f *Facts) { f.Authority.Roots[0].Name, f.Authority.Roots[0].Expires = "r", noon.Add(time.Hour) }},
		{"authority", Problem, "announcing for 2h0m0s, and waits for: x", func(f *Facts) {
			f.Authority.Phase, f.Authority.Since, f.Authority.Waiting = "announcing", noon.Add(-2*time.Hour), []string{"x"}
		}},
		{"rules", Problem, "No proxy serves gateway door", func(f *Facts) { f.Mesh.Gateways[0].IsRunning = false }},
		{"rules", Note, "Release r is held: why", func(f *Facts) { f.Mesh.Releases = []model.ReleaseSummary{{Name: "r", State: "held", Why: "why."}} }},
		{"rules", Problem, "Bundle main is refused since", func(f *Facts) {
			f.Follows = []model.Follow{{Bundle: "a", State: model.InStep}, {Bundle: "main", State: model.Refused, Why: "Commit x: wrong"}}
		}},
		{"rules", Note, "Bundle main is drifted since", func(f *Facts) { f.Follows = []model.Follow{{Bundle: "main", State: model.Drifted}} }},
		{"rules", Note, "quiet (f:1:1)", func(f *Facts) {
			f.Mesh.Warnings = []model.Finding{{Message: "quiet", At: model.Origin{File: "f", Line: 1, Col: 1}}}
		}},
	} {
		f := healthy()
		c.spoil(&f)
		rep := Examine(f)
		found := 0
		for _, one := range rep.Findings {
			switch {
			case one.Severity == Well:
			case one.Area == c.area && one.Severity == c.severity && strings.Contains(one.What, c.want) && one.Do != "":
				found++
			default:
				t.Errorf("%s: it also says %+v", c.want, one)
			}
		}
		if found != 1 || (rep.Problems > 0) != (c.severity == Problem) || rep.Findings[0].Severity != c.severity {
			t.Errorf("%s: found %d times, %d problems: %+v", c.want, found, rep.Problems, rep.Findings)
		}
	}
}

// TestManyNames: a finding about a thousand proxies is a line.
func TestManyNames(t *testing.T) {
	f := healthy()
	for range 1000 {
		f.Fleet.Proxies = append(f.Fleet.Proxies, model.Proxy{ID: "p", Program: "1", State: model.ProxyDisconnected})
	}
	rep := Examine(f)
	if rep.Problems != 1 || !strings.Contains(rep.Findings[0].What, "p, p, p, p, p and 995 others") {
		t.Errorf("%+v", rep.Findings[0])
	}
}
