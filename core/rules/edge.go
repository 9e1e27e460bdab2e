package rules

import (
	"fmt"
	"strings"
	"time"
)

// Bounds of what a gateway takes from outsiders.
const (
	// MaxTrusted is how many proxies may be in front of a gateway.
	MaxTrusted = 16
	// MaxHeaders is how many bytes of header fields any hop takes; a gateway may take fewer.
	MaxHeaders = 64 << 10
	// MaxSlow is how long a head may take to come; a gateway may wait for less.
	MaxSlow = 10 * time.Second
	// MaxStreams is how many requests at once a connection of an outsider may have.
	MaxStreams = 1000
)

// Trust says how much of what a request tells about its way a gateway believes. Nil: nothing.
type Trust struct {
	Proxies int      `json:"proxies"`        // in front of the gateway, each of which adds an entry to Field
	Field   string   `json:"field"`          // Forwarded (RFC 7239) or X-Forwarded-For
	Keep    []string `json:"keep,omitempty"` // other fields that they set in any case, by canonical name
	Origin
}

func (t *Trust) String() string {
	text := fmt.Sprintf("%d, by %s", t.Proxies, strings.ToLower(t.Field))
	if len(t.Keep) > 0 {
		text += ", keep " + strings.ToLower(strings.Join(t.Keep, " and "))
	}
	return text
}

// EdgeLimits bound what outsiders may take up of a gateway. What is 0 is as built in.
type EdgeLimits struct {
	Body        int64         `json:"body,omitempty"`        // bytes of the body of a request; built in: any
	Headers     int           `json:"headers,omitempty"`     // bytes of names and values of a header; built in: MaxHeaders
	Connections int           `json:"connections,omitempty"` // to all listeners of a proxy; built in: what its descriptors allow
	PerAddress  int           `json:"perAddress,omitempty"`  // connections of one IPv4 address, or IPv6 network of 64 bits
	Streams     int           `json:"streams,omitempty"`     // requests at once of a connection of HTTP/2; built in: 100
	Slow        time.Duration `json:"slow,omitempty"`        // for the head of a request to come; built in: MaxSlow
	Origin
}

func (l *EdgeLimits) String() string {
	var parts []string
	put := func(is bool, format string, v any) {
		if is {
			parts = append(parts, fmt.Sprintf(format, v))
		}
	}
	put(l.Body > 0, "body %s", SizeText(l.Body))
	put(l.Headers > 0, "headers %s", SizeText(int64(l.Headers)))
	put(l.Connections > 0, "connections %d", l.Connections)
	put(l.PerAddress > 0, "connections-per-address %d", l.PerAddress)
	put(l.Streams > 0, "streams %d", l.Streams)
	put(l.Slow > 0, "slow %s", l.Slow)
	return strings.Join(parts, ", ")
}

// Authenticate says what a request has to show. Without JWT it has to show nothing.
type Authenticate struct {
	JWT *JWT `json:"jwt,omitempty"`
	Origin
}

func (a *Authenticate) String() string {
	if a.JWT == nil {
		return "none"
	}
	return a.JWT.String()
}

// JWT is a JSON Web Token (RFC 7519) that a request shows as its bearer token (RFC 6750).
type JWT struct {
	Issuer     string       `json:"issuer"`
	Audience   []string     `json:"audience"` // of which the token has to name one
	Keys       string       `json:"keys"`     // URL, or path of a file on the machine of the gateway
	IsOptional bool         `json:"isOptional,omitempty"`
	Require    []Test       `json:"require,omitempty"` // of claims
	Fields     []ClaimField `json:"fields,omitempty"`  // that workloads get
}

func (j *JWT) String() string {
	text := fmt.Sprintf("jwt of %s for %s, keys %s", j.Issuer, strings.Join(j.Audience, " or "), j.Keys)
	if j.IsOptional {
		text += ", optional"
	}
	for _, t := range j.Require {
		text += ", require " + t.Describe()
	}
	for _, f := range j.Fields {
		text += fmt.Sprintf(", %s from %s", strings.ToLower(f.Field), f.Claim)
	}
	return text
}

// ClaimField is a header field with the values of a claim.
type ClaimField struct {
	Field string `json:"field"` // canonical
	Claim string `json:"claim"`
}

// Edge is what a gateway asks of outsiders, in words; what is as built in is left out.
func (g *Gateway) Edge() (out []Action) {
	if g.Trust != nil {
		out = append(out, Action{"trust-forwarded", g.Trust.String(), g.Trust.Origin})
	}
	if g.Limits != nil {
		out = append(out, Action{"limits", g.Limits.String(), g.Limits.Origin})
	}
	if g.Authenticate != nil {
		out = append(out, Action{"authenticate", g.Authenticate.String(), g.Authenticate.Origin})
	}
	if g.Details != "" {
		out = append(out, Action{"details", g.Details, g.DetailsAt})
	}
	return out
}

// sizes are the units of a size, the largest first.
var sizes = []struct {
	unit  string
	bytes int64
}{{"GiB", 1 << 30}, {"MiB", 1 << 20}, {"KiB", 1 << 10}, {"B", 1}}

// SizeText writes bytes in the largest unit that leaves a whole number.
func SizeText(n int64) string {
	for _, u := range sizes {
		if n%u.bytes == 0 {
			return fmt.Sprintf("%d%s", n/u.bytes, u.unit)
		}
	}
	return ""
}
