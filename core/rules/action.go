package rules

import (
	"fmt"
	"net/textproto"
	"strings"
	"time"
)

// Rewrite changes the request on its way to the target.
type Rewrite struct {
	Path string `json:"path,omitempty"` // with a final /** the remainder matched by the route's ** is kept
	Host string `json:"host,omitempty"`
	At   Origin `json:"at"`
}

// Redirect answers with another place.
type Redirect struct {
	Scheme string `json:"scheme,omitempty"` // empty: as it came
	Host   string `json:"host,omitempty"`   // empty: as it came
	Path   string `json:"path,omitempty"`   // as in Rewrite; empty: as it came
	Status int    `json:"status"`
	At     Origin `json:"at"`
}

func (r Redirect) String() string {
	var to strings.Builder
	if r.Scheme != "" {
		to.WriteString(r.Scheme + ":")
	}
	if r.Scheme != "" || r.Host != "" {
		to.WriteString("//")
		if r.Host == "" {
			to.WriteString("(same host)")
		}
		to.WriteString(r.Host)
	}
	if r.Path == "" {
		to.WriteString("(same path)")
	}
	to.WriteString(r.Path)
	return fmt.Sprintf("%d to %s", r.Status, to.String())
}

// Reply is a fixed answer.
type Reply struct {
	Status  int     `json:"status"`
	Body    string  `json:"body,omitempty"`
	Headers []Field `json:"headers,omitempty"` // Content-Type is text/plain unless it stands here
	At      Origin  `json:"at"`
}

// Field is one header field. Its name is canonical.
type Field struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// HeaderEdits changes header fields of the request on its way in and of the
// answer on its way out.
type HeaderEdits struct {
	Request  Edits  `json:"request,omitzero"`
	Response Edits  `json:"response,omitzero"`
	At       Origin `json:"at"`
}

// Edits are applied in this order: remove, set, add.
type Edits struct {
	Set    []Field  `json:"set,omitempty"`
	Add    []Field  `json:"add,omitempty"`
	Remove []string `json:"remove,omitempty"`
}

func (e Edits) String() string {
	var parts []string
	for _, n := range e.Remove {
		parts = append(parts, "remove "+strings.ToLower(n))
	}
	for _, f := range e.Set {
		parts = append(parts, fmt.Sprintf("set %s: %s", strings.ToLower(f.Name), f.Value))
	}
	for _, f := range e.Add {
		parts = append(parts, fmt.Sprintf("add %s: %s", strings.ToLower(f.Name), f.Value))
	}
	return strings.Join(parts, "; ")
}

// Stick keeps the same visitor on the same target.
type Stick struct {
	By Key    `json:"by"`
	At Origin `json:"at"`
}

// Mirror sends a copy of a share of the requests and drops the answers.
type Mirror struct {
	To    Target  `json:"to"`
	Share Percent `json:"share"`
	At    Origin  `json:"at"`
}

// Fault harms a share of the requests on purpose: with a delay, a status, or
// the one after the other.
type Fault struct {
	Delay  time.Duration `json:"delay,omitempty"`
	Status int           `json:"status,omitempty"`
	Share  Percent       `json:"share"`
	At     Origin        `json:"at"`
}

func (f Fault) String() string {
	var parts []string
	if f.Delay > 0 {
		parts = append(parts, "delay "+f.Delay.String())
	}
	if f.Status > 0 {
		parts = append(parts, fmt.Sprintf("status %d", f.Status))
	}
	return fmt.Sprintf("%s for %s%%", strings.Join(parts, " and "), f.Share)
}

// Action is one thing that a route does besides sending, in words.
type Action struct {
	Name   string
	Value  string
	Origin Origin
}

// Actions lists what the route does besides sending and besides its settings.
// Targets are written as the author inside the service home would.
func (rt *Route) Actions(home string) []Action {
	var out []Action
	add := func(name, value string, at Origin) {
		if value != "" {
			out = append(out, Action{name, value, at})
		}
	}
	if a := rt.Authenticate; a != nil {
		add("authenticate", a.String(), a.Origin)
	}
	if rt.Otherwise != nil {
		add("otherwise", rt.Otherwise.Short(home), rt.Otherwise.At)
	}
	if rt.Stick != nil {
		add("stick", rt.Stick.By.String(), rt.Stick.At)
	}
	if rt.Redirect != nil {
		add("redirect", rt.Redirect.String(), rt.Redirect.At)
	}
	if r := rt.Reply; r != nil {
		text := fmt.Sprintf("%d %q", r.Status, r.Body)
		if len(r.Headers) > 0 {
			text += ", " + Edits{Set: r.Headers}.String()
		}
		add("reply", text, r.At)
	}
	if rw := rt.Rewrite; rw != nil {
		add("rewrite.path", rw.Path, rw.At)
		add("rewrite.host", rw.Host, rw.At)
	}
	if h := rt.Headers; h != nil {
		add("headers.request", h.Request.String(), h.At)
		add("headers.response", h.Response.String(), h.At)
	}
	if m := rt.Mirror; m != nil {
		add("mirror", fmt.Sprintf("%s%% to %s", m.Share, m.To.Short(home)), m.At)
	}
	for i, f := range rt.Faults {
		name := "fault"
		if i > 0 {
			name = fmt.Sprintf("fault[%d]", i)
		}
		add(name, f.String(), f.At)
	}
	return out
}

// reserved are the fields that rules cannot change: those of the connection,
// of the message's framing, and the mesh's own.
func reserved(name string) bool {
	switch name = textproto.CanonicalMIMEHeaderKey(name); name {
	case "Connection",
		"Keep-Alive",
		"Proxy-Connection",
		"Proxy-Authenticate",
		"Proxy-Authorization",
		"Proxy-Status",
		"Te",
		"Trailer",
		"Transfer-Encoding",
		"Upgrade",
		"Http2-Settings",
		"Content-Length",
		"Host",
		"Via",
		"Forwarded":
		return true
	}
	return strings.HasPrefix(name, "Nightjar-")
}
