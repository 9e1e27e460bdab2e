package forward

import (
	"strings"
	"testing"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/proxy/http1"
)

// TestWhoIsBelieved: of what a request tells about its way the entries of trusted proxies
// stay, and nothing that stands before them changes which those are.
func TestWhoIsBelieved(t *testing.T) {
	for _, c := range []struct {
		name    string
		proxies int
		field   string
		came    []string // lines of the field
		address string
		xff     string // that goes on; empty: none
		rf      string // Forwarded, without the gateway's own element
	}{
		{"nobody", 0, "X-Forwarded-For", []string{"6.6.6.6"}, "9.9.9.9", "", ""},
		{"one", 1, "X-Forwarded-For", []string{"6.6.6.6, 1.2.3.4"}, "1.2.3.4", "1.2.3.4, 9.9.9.9", `for="1.2.3.4"`},
		{"two", 2, "X-Forwarded-For", []string{"6.6.6.6,1.2.3.4 ,\t10.0.0.1"}, "1.2.3.4", "1.2.3.4, 10.0.0.1, 9.9.9.9", `for="1.2.3.4", for="10.0.0.1"`},
		{"two on lines of their own", 2, "X-Forwarded-For", []string{"6.6.6.6", "1.2.3.4", "10.0.0.1"}, "1.2.3.4", "1.2.3.4, 10.0.0.1, 9.9.9.9", `for="1.2.3.4", for="10.0.0.1"`},
		{"fewer came", 2, "X-Forwarded-For", []string{"1.2.3.4"}, "1.2.3.4", "1.2.3.4, 9.9.9.9", `for="1.2.3.4"`},
		{"none came", 1, "X-Forwarded-For", nil, "9.9.9.9", "", ""},
		{"empty ones", 1, "X-Forwarded-For", []string{"1.2.3.4, , "}, "1.2.3.4", "1.2.3.4, 9.9.9.9", `for="1.2.3.4"`},
		{"with a port", 1, "X-Forwarded-For", []string{"[2001:db8::7]:4711"}, "2001:db8::7", "[2001:db8::7]:4711, 9.9.9.9", `for="[2001:db8::7]"`},
		{"IPv4 as IPv6", 1, "X-Forwarded-For", []string{"::ffff:1.2.3.4"}, "1.2.3.4", "::ffff:1.2.3.4, 9.9.9.9", `for="1.2.3.4"`},
		{"no address", 1, "X-Forwarded-For", []string{"1.2.3.4, unknown"}, "invalid IP", "unknown, 9.9.9.9", `for="unknown"`},
		{"the standard's", 1, "Forwarded", []string{`for=6.6.6.6, For="[2001:db8::7]:80";proto=https`}, "2001:db8::7", "", `For="[2001:db8::7]:80";proto=https`},
		{"a comma in quotes", 1, "Forwarded", []string{`for=6.6.6.6, for=1.2.3.4;host="a,b"`}, "1.2.3.4", "", `for=1.2.3.4;host="a,b"`},
		{"a quote that is not closed", 1, "Forwarded", []string{`for=6.6.6.6;x=", for=1.2.3.4`}, "1.2.3.4", "", `for=1.2.3.4`},
		{"one before quotes", 1, "Forwarded", []string{`for=6.6.6.6;x=", for="1.2.3.4"`}, "1.2.3.4", "", `for="1.2.3.4"`},
		{"one with a backslash", 1, "Forwarded", []string{`for=6.6.6.6;x="\, for="1.2.3.4"`}, "1.2.3.4", "", `for="1.2.3.4"`},
		{"none named", 1, "Forwarded", []string{`for=6.6.6.6, by=10.0.0.1`}, "invalid IP", "", `by=10.0.0.1`},
	} {
		fields := &http1.Fields{}
		for _, line := range c.came {
			fields.Add(strings.ToLower(c.field), line)
		}
		other := "Forwarded"
		if c.field == other {
			other = "X-Forwarded-For"
		}
		fields.Add(other, "for=6.6.6.6")
		fields.Add("X-Forwarded-Proto", "https")
		fields.Add("X-Forwarded-Host", "evil")
		var trust *rules.Trust
		if c.proxies > 0 {
			trust = &rules.Trust{Proxies: c.proxies, Field: c.field}
		}
		way := WayOf(trust, fields)
		if got := way.Address("9.9.9.9:1234"); got.String() != c.address {
			t.Errorf("%s: the caller is at %s, want %s", c.name, got, c.address)
		}
		r := Request{Hop: &Hop{Caller: "edge", IsGateway: true}, To: &engine.Instance{Outside: true}}
		r.Came = Came{Fields: fields, Host: "h", Protocol: "1.1", Remote: "9.9.9.9:1234", Trust: trust, Kept: []string{"X-Forwarded-Proto"}}
		out := &Map{Header: map[string][]string{}}
		r.WriteHeader(out)
		if got := strings.Join(out.Header["X-Forwarded-For"], "|"); got != c.xff {
			t.Errorf("%s: X-Forwarded-For goes on as %q, want %q", c.name, got, c.xff)
		}
		want := strings.TrimPrefix(c.rf+`, for="9.9.9.9";host="h";proto=http`, ", ")
		if got := strings.Join(out.Header["Forwarded"], "|"); got != want {
			t.Errorf("%s: Forwarded goes on as %q, want %q", c.name, got, want)
		}
		if out.Header["X-Forwarded-Host"] != nil || len(out.Header["X-Forwarded-Proto"]) != 1 {
			t.Errorf("%s: %v", c.name, out.Header)
		}
	}
}

// FuzzWay: whatever an outsider writes, the entry of the one trusted proxy says who called.
func FuzzWay(f *testing.F) {
	for _, junk := range []string{"", `for=6.6.6.6`, `for="`, `for=6.6.6.6;x="\`, `",`, `for=6.6.6.6,`, `\"`, `;;,"a,b`} {
		f.Add(junk, true)
		f.Add(junk, false)
	}
	f.Fuzz(func(t *testing.T, junk string, ownLine bool) {
		for field, entries := range map[string][]string{
			"Forwarded":       {`for=1.2.3.4`, `for="[2001:db8::1]:80";host="a,b\"c"`, `proto=https;for=1.2.3.4`},
			"X-Forwarded-For": {"1.2.3.4", "2001:db8::1"},
		} {
			for _, entry := range entries {
				fields := &http1.Fields{}
				if ownLine {
					fields.Add(field, junk)
					fields.Add(field, entry)
				} else {
					fields.Add(field, junk+", "+entry)
				}
				way := WayOf(&rules.Trust{Proxies: 1, Field: field}, fields)
				want := "1.2.3.4"
				if strings.Contains(entry, "2001") {
					want = "2001:db8::1"
				}
				if got := way.Address("9.9.9.9:1"); got.String() != want || way.n != 1 || way.kept[0] != entry {
					t.Errorf("%q before %q: the caller is at %s by %q", junk, entry, got, way.kept[0])
				}
			}
		}
	})
}
