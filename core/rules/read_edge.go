package rules

import (
	"fmt"
	"net/netip"
	"net/textproto"
	"net/url"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"
)

// edge are the keys of a gateway about outsiders.
func (r *reader) edge(g *Gateway) fields {
	return fields{
		"trust-forwarded": func(n *yaml.Node, path string) { g.Trust = r.trust(n, path) },
		"limits":          func(n *yaml.Node, path string) { g.Limits = r.edgeLimits(n, path) },
		"authenticate":    func(n *yaml.Node, path string) { g.Authenticate = r.authenticate(n, path) },
		"details": func(n *yaml.Node, path string) {
			g.Details, g.DetailsAt = r.choice(n, path, DetailsID, DetailsFull), r.at(n)
		},
	}
}

// trust reads the number of proxies, or a mapping.
func (r *reader) trust(n *yaml.Node, path string) *Trust {
	t := &Trust{Field: "X-Forwarded-For", Origin: r.at(n)}
	proxies := func(n *yaml.Node, path string) { t.Proxies, _ = r.number(n, path, 0, MaxTrusted) }
	if isMapping(n) {
		seen := r.mapping(n, path, fields{
			"proxies": proxies,
			"field": func(n *yaml.Node, path string) {
				if s := r.choice(n, path, "x-forwarded-for", "forwarded"); s != "" {
					t.Field = textproto.CanonicalMIMEHeaderKey(s)
				}
			},
			"keep": func(n *yaml.Node, path string) {
				const expected = "names such as x-forwarded-proto, x-forwarded-host, x-forwarded-port or x-real-ip"
				r.items(n, path, func(n *yaml.Node, path string) {
					s, ok := r.scalar(n, path, expected)
					name := textproto.CanonicalMIMEHeaderKey(s)
					switch {
					case !ok:
					case name != "X-Real-Ip" && !(strings.HasPrefix(name, "X-Forwarded-") && tokenShape.MatchString(s)) ||
						name == "X-Forwarded-For":
						r.mistake(n, path, CodeBadValue, fmt.Sprintf("%q is not a field that can be kept", s), expected)
					default:
						t.Keep = append(t.Keep, name)
					}
				})
			},
		})
		r.need(n, path, seen, "trust-forwarded", "proxies")
	} else {
		proxies(n, path)
	}
	if t.Proxies == 0 {
		return nil
	}
	return t
}

func (r *reader) edgeLimits(n *yaml.Node, path string) *EdgeLimits {
	l := &EdgeLimits{Origin: r.at(n)}
	number := func(to *int, least, most int) func(*yaml.Node, string) {
		return func(n *yaml.Node, path string) {
			v, ok := r.number(n, path, least, most)
			set(to, v, ok)
		}
	}
	r.mapping(n, path, fields{
		"body": func(n *yaml.Node, path string) {
			v, ok := r.size(n, path, 1, 1<<40)
			set(&l.Body, v, ok)
		},
		"headers": func(n *yaml.Node, path string) {
			v, ok := r.size(n, path, 1<<10, MaxHeaders)
			set(&l.Headers, int(v), ok)
		},
		"connections":             number(&l.Connections, 1, 1_000_000),
		"connections-per-address": number(&l.PerAddress, 1, 1_000_000),
		"streams":                 number(&l.Streams, 1, MaxStreams),
		"slow": func(n *yaml.Node, path string) {
			d, ok := r.duration(n, path, time.Nanosecond)
			if ok && (d < time.Second || d > MaxSlow) {
				r.mistake(n, path, CodeBadValue, fmt.Sprintf("%s is out of range", d), fmt.Sprintf("1s to %s", MaxSlow))
				return
			}
			set(&l.Slow, d, ok)
		},
	})
	return l
}

// size reads 10MiB as bytes.
func (r *reader) size(n *yaml.Node, path string, least, most int64) (int64, bool) {
	expected := fmt.Sprintf("a size from %s to %s, such as 32KiB", SizeText(least), SizeText(most))
	s, ok := r.scalar(n, path, expected)
	if !ok {
		return 0, false
	}
	for _, u := range sizes {
		text, is := strings.CutSuffix(s, u.unit)
		if !is {
			continue
		}
		v, err := strconv.ParseInt(text, 10, 64)
		if err != nil || v < 0 {
			break
		}
		if v > most/u.bytes || v*u.bytes < least {
			r.mistake(n, path, CodeBadValue, fmt.Sprintf("%s is out of range", s), expected)
			return 0, false
		}
		return v * u.bytes, true
	}
	r.mistake(n, path, CodeWrongType, fmt.Sprintf("%q is not a size", s), expected)
	return 0, false
}

const authenticateExpected = "{jwt: {issuer: …, audience: …, keys: …}}, or none"

// authenticate reads what a request has to show.
func (r *reader) authenticate(n *yaml.Node, path string) *Authenticate {
	a := &Authenticate{Origin: r.at(n)}
	if !isMapping(n) {
		s, ok := r.scalar(n, path, authenticateExpected)
		if ok && s != "none" {
			r.mistake(n, path, CodeBadValue, fmt.Sprintf("%q is not allowed here", s), authenticateExpected)
		}
		return a
	}
	seen := r.mapping(n, path, fields{"jwt": func(n *yaml.Node, path string) { a.JWT = r.jwt(n, path) }})
	r.need(n, path, seen, "authenticate", "jwt")
	return a
}

func (r *reader) jwt(n *yaml.Node, path string) *JWT {
	j := &JWT{}
	seen := r.mapping(n, path, fields{
		"issuer": func(n *yaml.Node, path string) {
			j.Issuer, _ = r.scalar(n, path, "the issuer (iss), as tokens name it")
		},
		"audience": func(n *yaml.Node, path string) {
			r.items(n, path, func(n *yaml.Node, path string) {
				if s, ok := r.scalar(n, path, "an audience (aud), or a list of which a token has to name one"); ok {
					j.Audience = append(j.Audience, s)
				}
			})
		},
		"keys": func(n *yaml.Node, path string) { j.Keys = r.keysOf(n, path) },
		"optional": func(n *yaml.Node, path string) {
			j.IsOptional = r.yes(n, path)
		},
		"require": func(n *yaml.Node, path string) { j.Require = r.claims(n, path) },
		"fields": func(n *yaml.Node, path string) {
			r.pairs(n, path, func(k, v *yaml.Node, path string) {
				name, isName := r.headerName(k, path)
				if claim, ok := r.scalar(v, path, "the name of a claim"); ok && isName {
					j.Fields = append(j.Fields, ClaimField{name, claim})
				}
			})
		},
	})
	r.need(n, path, seen, "jwt", "issuer", "audience", "keys")
	if seen.has("require") && j.IsOptional {
		r.mistake(seen["require"], path+".require", CodeBadValue, "a token that is optional cannot be required to say anything", "either optional or require")
	}
	return j
}

// keysOf reads where keys come from.
func (r *reader) keysOf(n *yaml.Node, path string) string {
	const expected = "https://HOST/PATH of a key set (RFC 7517), or the path of a file with one, or with public keys as PEM"
	s, ok := r.scalar(n, path, expected)
	if !ok {
		return ""
	}
	scheme, _, isURL := strings.Cut(s, "://")
	if !isURL {
		return s
	}
	u, err := url.Parse(s)
	switch {
	case err != nil || u.Host == "" || u.User != nil || u.Fragment != "":
		r.mistake(n, path, CodeBadValue, fmt.Sprintf("%q is not a URL of keys", s), expected)
		return ""
	case scheme == "http" && !isLoopback(u.Hostname()), scheme != "http" && scheme != "https":
		r.mistake(n, path, CodeBadValue, "keys that come without TLS can be changed on their way", expected)
		return ""
	}
	return s
}

func isLoopback(host string) bool {
	if host == "localhost" {
		return true
	}
	a, err := netip.ParseAddr(host)
	return err == nil && a.IsLoopback()
}

// claims reads tests of claims.
func (r *reader) claims(n *yaml.Node, path string) []Test { return r.tests(n, path, nil) }

// addresses reads networks, or single addresses.
func (r *reader) addresses(n *yaml.Node, path string) []netip.Prefix {
	const expected = "an address such as 10.0.0.7, a network such as 10.0.0.0/8, or a list of them"
	var out []netip.Prefix
	r.items(n, path, func(n *yaml.Node, path string) {
		s, ok := r.scalar(n, path, expected)
		if !ok {
			return
		}
		p, err := netip.ParsePrefix(s)
		if err != nil {
			a, aerr := netip.ParseAddr(s)
			if aerr != nil || a.Zone() != "" {
				r.mistake(n, path, CodeBadValue, fmt.Sprintf("%q is neither an address nor a network", s), expected)
				return
			}
			p = netip.PrefixFrom(a, a.BitLen())
		}
		if p.Addr().Is4In6() {
			r.mistake(n, path, CodeBadValue, fmt.Sprintf("%s is an IPv4 address in the form of IPv6", s), p.Addr().Unmap().String())
			return
		}
		if p.Masked() != p {
			r.mistake(n, path, CodeBadValue, fmt.Sprintf("%s has bits beyond its length", s), p.Masked().String())
			return
		}
		out = append(out, p)
	})
	return out
}
