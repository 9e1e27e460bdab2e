package wire

import (
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"nightjar/core/engine"
)

// Watch asks proxies for a record of every request that a filter takes.
type Watch struct {
	ID string `json:"id"`
	Filter
}

// Filter says which requests are wanted. Each field that is set must hold; the
// zero value takes all.
type Filter struct {
	From     string `json:"from,omitempty" doc:"calling service or gateway"`
	To       string `json:"to,omitempty" doc:"called service"`
	Version  string `json:"version,omitempty" doc:"version that the request went to"`
	Instance string `json:"instance,omitempty" doc:"instance that answered, or was tried last"`
	Route    string `json:"route,omitempty" doc:"route of the service or of the gateway"`
	Method   string `json:"method,omitempty"`
	Path     string `json:"path,omitempty" doc:"what the path begins with"`
	Status   string `json:"status,omitempty" doc:"a status such as 503, or a class such as 5xx"`
	Reason   string `json:"reason,omitempty" doc:"why the mesh answered"`
	Outcome  string `json:"outcome,omitempty" doc:"ok, failed, refused, abandoned, caller-fault, or trouble: all but ok"`
	Header   string `json:"header,omitempty" doc:"NAME that is there, or NAME=VALUE"`
	Tries    int    `json:"tries,omitempty" doc:"was sent so often at least"`
	Request  string `json:"request,omitempty" doc:"id that a gateway's refusal told its caller"`
	SlowerMS int64  `json:"slowerMS,omitempty" doc:"took longer than this many milliseconds"`
}

// Trouble, as an outcome of a Filter, is all but ok.
const Trouble = "trouble"

// Outcomes are the words for outcomes of a Filter.
var Outcomes = []string{
	engine.OK.String(),
	engine.Failed.String(),
	engine.Refused.String(),
	engine.Abandoned.String(),
	engine.CallerFault.String(),
	Trouble,
}

// Check tells what is wrong with a filter.
func (f *Filter) Check() error {
	if s := f.Status; s != "" {
		n, err := strconv.Atoi(strings.TrimSuffix(s, "xx"))
		class := strings.HasSuffix(s, "xx") && err == nil && n >= 1 && n <= 5
		if !class && (err != nil || n < 100 || n > 599) {
			return fmt.Errorf("status %q: expected a status such as 503, or a class such as 5xx", s)
		}
	}
	if r := f.Reason; r != "" && !slices.Contains(engine.Reasons[:], engine.Reason(r)) {
		var all []string
		for _, known := range engine.Reasons {
			all = append(all, string(known))
		}
		return fmt.Errorf("reason %q: expected one of %s", r, strings.Join(all, ", "))
	}
	if f.Outcome != "" && !slices.Contains(Outcomes, f.Outcome) {
		return fmt.Errorf("outcome %q: expected one of %s", f.Outcome, strings.Join(Outcomes, ", "))
	}
	if f.SlowerMS < 0 || f.Tries < 0 {
		return fmt.Errorf("slower than %d ms, in %d tries: expected numbers above 0", f.SlowerMS, f.Tries)
	}
	if name, _, _ := strings.Cut(f.Header, "="); f.Header != "" &&
		(name == "" || strings.ContainsAny(name, " \t:\r\n")) {
		return fmt.Errorf("header %q: expected NAME or NAME=VALUE", f.Header)
	}
	if f.Path != "" && f.Path[0] != '/' {
		return fmt.Errorf("path %q: expected one that begins with /", f.Path)
	}
	return nil
}

// Takes tells whether a filter takes a request by its record, which has no
// headers: that test is left out.
func (f *Filter) Takes(r *Record) bool {
	is := func(want string, have ...string) bool { return want == "" || slices.Contains(have, want) }
	tries := 0
	for _, s := range r.Tries {
		if s.Kind == "try" {
			tries++
		}
	}
	return is(f.From, r.Caller) && is(f.To, r.Service) && is(f.Version, r.Version) && is(f.Instance, r.Instance) && is(f.Route, r.Route, r.Gate) &&
		is(strings.ToUpper(f.Method), strings.ToUpper(r.Method)) && strings.HasPrefix(r.Path, f.Path) && is(f.Status, strconv.Itoa(r.Status), strconv.Itoa(r.Status/100)+"xx") &&
		is(f.Reason, r.Reason) && is(f.Request, r.ID) &&
		(is(f.Outcome, r.Outcome) || f.Outcome == Trouble && r.Outcome != engine.OK.String()) &&
		tries >= f.Tries &&
		(f.SlowerMS == 0 || r.MS > float64(f.SlowerMS))
}

// HeaderTest is the header of a filter in canonical form; has tells whether a
// value is wanted too.
func (f *Filter) HeaderTest() (name, value string, has bool) {
	name, value, has = strings.Cut(f.Header, "=")
	return http.CanonicalHeaderKey(name), value, has
}

// Record is one request that is over, as its caller's proxy saw it.
type Record struct {
	At            time.Time `json:"at" doc:"when it came to the proxy"`
	Proxy         string    `json:"proxy"`
	Caller        string    `json:"caller"`
	CallerVersion string    `json:"callerVersion,omitempty"`
	Service       string    `json:"service,omitempty" doc:"called service; empty when the request found none"`
	Version       string    `json:"version,omitempty"`
	Instance      string    `json:"instance,omitempty" doc:"that answered, or was tried last"`
	Route         string    `json:"route,omitempty"`
	Gate          string    `json:"gate,omitempty" doc:"route of the gateway"`
	Written       string    `json:"written,omitempty" doc:"file and line of the route that decided"`
	Revision      uint      `json:"revision"`
	Method        string    `json:"method,omitempty"`
	Host          string    `json:"host,omitempty"`
	Path          string    `json:"path,omitempty" doc:"as it came, without the query"`
	Status        int       `json:"status,omitempty" doc:"that the caller got; absent when it left, and for TCP"`
	Outcome       string    `json:"outcome" doc:"ok, failed, refused, abandoned or caller-fault"`
	Reason        string    `json:"reason,omitempty" doc:"why the mesh answered"`
	Detail        string    `json:"detail,omitempty" doc:"of the reason"`
	ID            string    `json:"id,omitempty" doc:"that a gateway's refusal told its caller"`
	MS            float64   `json:"ms" doc:"until the last byte of the answer had gone to the caller"`
	Sent          uint64    `json:"sent" doc:"bytes of the request's body"`
	Received      uint64    `json:"received" doc:"bytes of the answer's body that reached the caller"`
	Secured       bool      `json:"secured" doc:"the hop to the instance was encrypted"`
	Trace         string    `json:"trace,omitempty" doc:"trace id"`
	Traced        bool      `json:"traced,omitempty" doc:"the trace was kept"`
	Tries         []Stretch `json:"tries,omitempty" doc:"tries and the waits between them, in order"`
}

// Stretch is a part of a request's time.
type Stretch struct {
	Kind     string  `json:"kind" doc:"try, queue, back-off or delay"`
	Instance string  `json:"instance,omitempty" doc:"of a try"`
	FromMS   float64 `json:"fromMS" doc:"since the request came"`
	MS       float64 `json:"ms" doc:"of a try: until the head of its answer"`
	Status   int     `json:"status,omitempty"`
	Reason   string  `json:"reason,omitempty"`
}

// Span is one piece of a trace.
type Span struct {
	Trace    string `json:"trace" doc:"16 bytes in hexadecimal"`
	ID       string `json:"id" doc:"8 bytes in hexadecimal"`
	Parent   string `json:"parent,omitempty"`
	Kind     string `json:"kind" doc:"request (at the caller's proxy), try, queue, back-off, delay, or app (at the proxy beside the workload)"`
	BeganUS  int64  `json:"beganUS" doc:"microseconds since 1970"`
	TookUS   int64  `json:"tookUS"`
	Proxy    string `json:"proxy"`
	Edge     bool   `json:"edge,omitempty" doc:"the proxy is a gateway"`
	Caller   string `json:"caller,omitempty"`
	Service  string `json:"service,omitempty" doc:"called service"`
	Version  string `json:"version,omitempty"`
	Instance string `json:"instance,omitempty"`
	Route    string `json:"route,omitempty"`
	Method   string `json:"method,omitempty"`
	Path     string `json:"path,omitempty"`
	Status   int    `json:"status,omitempty"`
	Outcome  string `json:"outcome,omitempty"`
	Reason   string `json:"reason,omitempty"`
	Detail   string `json:"detail,omitempty"`
}

// Seen is what a proxy has to tell of single requests.
type Seen struct {
	Watches []Batch  `json:"watches,omitempty"`
	Trouble []Record `json:"trouble,omitempty"` // some of the requests that did not succeed, always
	Spans   []Span   `json:"spans,omitempty"`
	Lost    uint64   `json:"lost,omitempty"` // spans that there was no room for
}

// Batch is what one watch took.
type Batch struct {
	Watch   string   `json:"watch"`
	Records []Record `json:"records,omitempty"`
	Dropped uint64   `json:"dropped,omitempty"` // more that the filter took, and there was no room for
}
