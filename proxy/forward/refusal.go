package forward

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"nightjar/core/engine"
	"nightjar/wire"
)

// Refusal is an answer of the mesh's own: the reason, what happened, and the rule
// that led there.
type Refusal struct {
	Status int
	Reason engine.Reason
	Error  string // its type by RFC 9209; empty: that of the reason
	Detail string
	Proxy  string        // name of the proxy that refuses
	Rule   string        // where the rule was written; empty: no rule did it
	After  time.Duration // when to come again; 0: not known
	// Request is the id by which those inside find the request. With it the refusal is
	// for an outsider, who is told that and the reason, and nothing of the inside.
	Request string
}

// outsidersProxy is the name of every proxy to outsiders.
const outsidersProxy = "nightjar"

// sealed is the refusal as its caller sees it: for an outsider without what is of
// the inside, and with how it names the request.
func (r Refusal) sealed(h http.Header) *Refusal {
	if r.Request != "" {
		r.Proxy, r.Rule, r.Detail = outsidersProxy, "", "request "+r.Request
		h[wire.HeaderRequest] = []string{r.Request}
	}
	return &r
}

// RuleOf names the route that took a request, for a person; empty: none did.
func RuleOf(x *engine.Exchange) string {
	route, gate := x.Route()
	for _, rt := range [...]*engine.Route{route, gate} {
		if rt != nil && rt.Name() != "" {
			return fmt.Sprintf("route %s of %s, %s", rt.Name(), rt.Of(), rt.At())
		}
	}
	return ""
}

// Message is the refusal as an answer to a request: by a gRPC status for callers
// that speak gRPC, as JSON (RFC 9457) for those that take it, as text for all
// others. It adds its fields to h.
func (r *Refusal) Message(v engine.View, isHTTP2 bool, h http.Header) (status int, body []byte) {
	r = r.sealed(h)
	h["Proxy-Status"] = []string{r.proxyStatus()}
	if r.After > 0 {
		h["Retry-After"] = []string{strconv.Itoa(wholeSeconds(r.After))}
	}
	if IsGRPC(v, isHTTP2) {
		r.grpcHeader(h)
		return http.StatusOK, nil
	}
	if strings.Contains(strings.Join(v.Header("Accept"), ","), "json") {
		h["Content-Type"] = []string{"application/problem+json"}
		return r.Status, r.json()
	}
	return r.Status, r.Text(h)
}

// json is the body of a refusal as a problem (RFC 9457).
func (r *Refusal) json() []byte {
	body, _ := json.Marshal(struct {
		Type   string        `json:"type"`
		Title  string        `json:"title"`
		Status int           `json:"status"`
		Detail string        `json:"detail"`
		Reason engine.Reason `json:"reason"`
		Proxy  string        `json:"proxy"`
		Rule   string        `json:"rule,omitempty"`
		ID     string        `json:"request,omitempty"`
	}{"about:blank", http.StatusText(r.Status), r.Status, r.Detail, r.Reason, r.Proxy, r.Rule, r.Request})
	return append(body, '\n')
}

// Text is the refusal as text, for a request that could not be read.
func (r *Refusal) Text(h http.Header) (body []byte) {
	r = r.sealed(h)
	h["Proxy-Status"] = []string{r.proxyStatus()}
	h["Content-Type"] = []string{"text/plain; charset=utf-8"}
	h["X-Content-Type-Options"] = []string{"nosniff"}
	body = fmt.Appendf(nil, "%d %s: %s\n", r.Status, r.Reason, r.Detail)
	if r.Rule != "" {
		body = fmt.Appendf(body, "rule: %s\n", r.Rule)
	}
	return body
}

// proxyStatus is the field of RFC 9209.
func (r *Refusal) proxyStatus() string {
	kind := r.Error
	if kind == "" {
		kind = r.Reason.ErrorType()
	}
	return quoted(r.Proxy) + "; error=" + kind + "; details=" + quoted(string(r.Reason)+": "+r.Detail)
}
