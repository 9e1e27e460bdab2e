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

// Watch asks proxies for a record of every request that matches a filter.
type Watch struct {
	ID string `json:"id"`
	Filter
}

// Filter selects requests. Each field that is set must match; the zero value selects
// all.
type Filter struct {
	From     string `json:"from,omitempty"`     // calling service or gateway
	To       string `json:"to,omitempty"`       // called service
	Version  string `json:"version,omitempty"`  // version that got the request
	Instance string `json:"instance,omitempty"` // instance that answered, or got the last attempt
	Route    string `json:"route,omitempty"`    // route of the service or of the gateway
	Method   string `json:"method,omitempty"`
	Path     string `json:"path,omitempty"`   // prefix of the path
	Status   string `json:"status,omitempty"` // a status such as 503, or a class such as 5xx
	Reason   string `json:"reason,omitempty"` // why it failed or was refused
	// ok, failed, refused, abandoned, caller-fault, or not-ok: any but ok
	Outcome  string `json:"outcome,omitempty"`
	Header   string `json:"header,omitempty"`   // NAME that is present, or NAME=VALUE
	Attempts int    `json:"attempts,omitempty"` // at least this many attempts
	Request  string `json:"request,omitempty"`  // id on a gateway's refusal
	Site     string `json:"site,omitempty"`     // of the caller or of the instance
	SlowerMS int64  `json:"slowerMS,omitempty"` // took longer than this many milliseconds
}

// NotOK, as an outcome of a Filter, is any but ok.
const NotOK = "not-ok"

// Outcomes are the words for outcomes of a Filter.
var Outcomes = []string{
	engine.OK.String(),
	engine.Failed.String(),
	engine.Refused.String(),
	engine.Abandoned.String(),
	engine.CallerFault.String(),
	NotOK,
}

// Check returns what is wrong with a filter.
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
	if f.SlowerMS < 0 || f.Attempts < 0 {
		return fmt.Errorf(
			"slower than %d ms, %d attempts: expected numbers that are not negative",
			f.SlowerMS,
			f.Attempts,
		)
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

// Takes tells whether a record matches the filter. A record has no headers, so the
// header is not compared.
func (f *Filter) Takes(r *Record) bool {
	is := func(want string, have ...string) bool { return want == "" || slices.Contains(have, want) }
	attempts := 0
	for _, s := range r.Segments {
		if s.Kind == "attempt" {
			attempts++
		}
	}
	return is(f.From, r.Caller) && is(f.To, r.Service) &&
		is(f.Version, r.Version) && is(f.Instance, r.Instance) && is(f.Route, r.Route, r.Gate) &&
		is(strings.ToUpper(f.Method), strings.ToUpper(r.Method)) && strings.HasPrefix(r.Path, f.Path) &&
		is(f.Status, strconv.Itoa(r.Status), strconv.Itoa(r.Status/100)+"xx") &&
		is(f.Reason, r.Reason) && is(f.Request, r.ID) && is(f.Site, r.CallerSite, r.Site) &&
		(is(f.Outcome, r.Outcome) || f.Outcome == NotOK && r.Outcome != engine.OK.String()) &&
		attempts >= f.Attempts &&
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
	At            time.Time `json:"at"` // when it came to the proxy
	Proxy         string    `json:"proxy"`
	Caller        string    `json:"caller"`
	CallerVersion string    `json:"callerVersion,omitempty"`
	CallerSite    string    `json:"callerSite,omitempty"`
	// called service; empty when the request found none
	Service  string `json:"service,omitempty"`
	Version  string `json:"version,omitempty"`
	Instance string `json:"instance,omitempty"` // that answered, or got the last attempt
	Site     string `json:"site,omitempty"`     // of the instance
	Route    string `json:"route,omitempty"`
	Gate     string `json:"gate,omitempty"`    // route of the gateway
	Written  string `json:"written,omitempty"` // file and line of the route that decided
	Revision uint   `json:"revision"`
	Method   string `json:"method,omitempty"`
	Host     string `json:"host,omitempty"`
	Path     string `json:"path,omitempty"` // as it came, without the query
	// that the caller got; absent when it left, and for TCP
	Status   int     `json:"status,omitempty"`
	Outcome  string  `json:"outcome"`          // ok, failed, refused, abandoned or caller-fault
	Reason   string  `json:"reason,omitempty"` // why it failed or was refused
	Detail   string  `json:"detail,omitempty"` // of the reason
	ID       string  `json:"id,omitempty"`     // that a gateway's refusal told its caller
	MS       float64 `json:"ms"`               // until the last byte of the answer had gone to the caller
	Sent     uint64  `json:"sent"`             // bytes of the request's body
	Received uint64  `json:"received"`         // bytes of the answer's body that reached the caller
	Secured  bool    `json:"secured"`          // the hop to the instance was encrypted
	Mutual   bool    `json:"mutual,omitempty"` // by mutual TLS: both ends proved who they are
	// SPIFFE IDs of both ends, with Mutual: by the certificate that the record came with, so
	// the service sets them
	CallerIdentity  string `json:"-"`
	ServiceIdentity string `json:"-"`
	Trace           string `json:"trace,omitempty"`  // trace id
	Traced          bool   `json:"traced,omitempty"` // the trace was kept
	// its attempts, and the waits between them, in order
	Segments []Segment `json:"segments,omitempty"`
}

// Segment is a part of a request's time.
type Segment struct {
	Kind     string  `json:"kind"`               // attempt, queue, backoff or delay
	Instance string  `json:"instance,omitempty"` // of an attempt
	FromMS   float64 `json:"fromMS"`             // since the request came
	MS       float64 `json:"ms"`                 // of an attempt: until the head of its response
	Status   int     `json:"status,omitempty"`
	Reason   string  `json:"reason,omitempty"`
}

// Span is one piece of a trace.
type Span struct {
	Trace  string `json:"trace"` // 16 bytes in hexadecimal
	ID     string `json:"id"`    // 8 bytes in hexadecimal
	Parent string `json:"parent,omitempty"`
	// request (at the caller's proxy), attempt, queue, backoff, delay, or workload (at the
	// proxy beside it)
	Kind     string `json:"kind"`
	BeganUS  int64  `json:"beganUS"` // microseconds since 1970
	TookUS   int64  `json:"tookUS"`
	Proxy    string `json:"proxy"`
	Edge     bool   `json:"edge,omitempty"` // the proxy is a gateway
	Caller   string `json:"caller,omitempty"`
	Service  string `json:"service,omitempty"` // called service
	Version  string `json:"version,omitempty"`
	Instance string `json:"instance,omitempty"`
	Route    string `json:"route,omitempty"`
	Method   string `json:"method,omitempty"`
	Path     string `json:"path,omitempty"`
	Status   int    `json:"status,omitempty"`
	Outcome  string `json:"outcome,omitempty"`
	Reason   string `json:"reason,omitempty"`
	Detail   string `json:"detail,omitempty"`
	// Site of the instance, of an attempt, and otherwise of the proxy. The service adds it.
	Site string `json:"site,omitempty"`
}

// Seen is what a proxy reports of single requests.
type Seen struct {
	Watches  []Batch  `json:"watches,omitempty"`
	Failures []Record `json:"failures,omitempty"` // some of the requests that did not succeed, whoever watches
	Spans    []Span   `json:"spans,omitempty"`
	Lost     uint64   `json:"lost,omitempty"` // spans without room
}

// Batch is the records for one watch.
type Batch struct {
	Watch   string   `json:"watch"`
	Records []Record `json:"records,omitempty"`
	Dropped uint64   `json:"dropped,omitempty"` // records that match, and for which there was no room
}
