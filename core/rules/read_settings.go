package rules

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"
)

// serviceSettings are the keys that services, policies and defaults share.
func (r *reader) serviceSettings(s *Settings) fields {
	return fields{
		"timeout":  func(n *yaml.Node, path string) { s.Timeout = r.timeout(n, path) },
		"retry":    func(n *yaml.Node, path string) { s.Retry = r.retry(n, path) },
		"guard":    func(n *yaml.Node, path string) { r.guard(s, n, path) },
		"health":   func(n *yaml.Node, path string) { s.Health = r.health(n, path) },
		"balance":  func(n *yaml.Node, path string) { s.Balance = r.balance(n, path) },
		"failover": func(n *yaml.Node, path string) { s.Failover = r.failover(n, path) },
		"identity": func(n *yaml.Node, path string) { s.Identity = r.identity(n, path) },
	}
}

func (r *reader) timeout(n *yaml.Node, path string) *Timeout {
	if d, ok := r.duration(n, path, time.Nanosecond); ok {
		return &Timeout{d, r.at(n)}
	}
	return nil
}

// set keeps a value that could be read.
func set[T any](to *T, v T, ok bool) {
	if ok {
		*to = v
	}
}

// What can be retried and counted against an instance, besides statuses.
var (
	tryReasons  = []string{"unreachable", "reset", "timeout"}
	classShapes = []string{"1xx", "2xx", "3xx", "4xx", "5xx"}
)

// outcomes reads a list of reasons and statuses.
func (r *reader) outcomes(n *yaml.Node, path string) []string {
	var out []string
	r.items(n, path, func(n *yaml.Node, path string) {
		const expected = "unreachable, reset, timeout, a status from 100 to 599, or a class such as 5xx"
		s, ok := r.scalar(n, path, expected)
		if !ok {
			return
		}
		for _, w := range append(tryReasons, classShapes...) {
			if s == w {
				out = append(out, s)
				return
			}
		}
		if code, err := strconv.Atoi(s); err != nil {
			r.mistake(
				n,
				path,
				CodeBadValue,
				fmt.Sprintf("%q is not an outcome of an attempt", s),
				oneOf(s, append(tryReasons, "5xx"))+", or a status from 100 to 599",
			)
		} else if code < 100 || code > 599 {
			r.mistake(n, path, CodeBadValue, fmt.Sprintf("%d is not a status", code), expected)
		} else {
			out = append(out, s)
		}
	})
	return out
}

func (r *reader) retry(n *yaml.Node, path string) *Retry {
	t := &Retry{
		On:      []string{"unreachable", "reset", "502", "503", "504"},
		WaitMin: 25 * time.Millisecond,
		WaitMax: 250 * time.Millisecond,
		Budget:  50_000,
		Origin:  r.at(n),
	}
	seen := r.mapping(n, path, fields{
		"times": func(n *yaml.Node, path string) { t.Times, _ = r.number(n, path, 0, 10) },
		"each": func(n *yaml.Node, path string) {
			d, ok := r.duration(n, path, time.Nanosecond)
			set(&t.Each, d, ok)
		},
		"on": func(n *yaml.Node, path string) { t.On = r.outcomes(n, path) },
		"wait": func(n *yaml.Node, path string) {
			const expected = "a duration or a range such as 25ms..250ms"
			s, ok := r.scalar(n, path, expected)
			if !ok {
				return
			}
			low, high, ranged := strings.Cut(s, "..")
			if !ranged {
				high = low
			}
			a, ok1 := r.parseDuration(n, path, low, 0, expected)
			b, ok2 := a, ok1
			if ranged {
				b, ok2 = r.parseDuration(n, path, high, 0, expected)
			}
			if ok1 && ok2 && a > b {
				r.mistake(n, path, CodeBadValue, fmt.Sprintf("the range %s starts after its end", s), expected)
			} else if ok1 && ok2 {
				t.WaitMin, t.WaitMax = a, b
			}
		},
		"budget": func(n *yaml.Node, path string) {
			p, ok := r.percent(n, path, 0)
			set(&t.Budget, p, ok)
		},
		"methods": func(n *yaml.Node, path string) { t.AnyVerb = r.choice(n, path, "idempotent", "all") == "all" },
	})
	r.need(n, path, seen, "retry", "times")
	return t
}

// maxBurst bounds the tokens of a full bucket.
const maxBurst = 1_000_000

func (r *reader) limit(n *yaml.Node, path string) *Limit {
	l := &Limit{Origin: r.at(n)}
	seen := r.mapping(n, path, fields{
		"rate": func(n *yaml.Node, path string) {
			count, per, ok := r.rate(n, path)
			if ok && count != math.Trunc(count) {
				r.mistake(
					n,
					path,
					CodeBadValue,
					fmt.Sprintf("%g is not a whole number", count),
					"a whole number of requests, such as 90/m for one and a half a second",
				)
			}
			l.Count, l.Per = int(count), per
		},
		"burst": func(n *yaml.Node, path string) { l.Burst, _ = r.number(n, path, 1, maxBurst) },
		"scope": func(n *yaml.Node, path string) {
			if r.choice(n, path, "proxy", ScopeMesh) == ScopeMesh {
				l.Scope = ScopeMesh
			}
		},
		"per": func(n *yaml.Node, path string) {
			r.items(n, path, func(n *yaml.Node, path string) {
				if k, ok := r.key(n, path); ok {
					l.Keys = append(l.Keys, k)
				}
			})
		},
	})
	r.need(n, path, seen, "limit", "rate")
	if l.Count == 0 {
		return nil
	}
	if l.Burst == 0 { // all that the rate names
		l.Burst = min(l.Count, maxBurst)
	}
	return l
}

func (r *reader) guard(s *Settings, n *yaml.Node, path string) {
	q := &Queue{WaitAtMost: 100 * time.Millisecond, Origin: r.at(n)}
	seen := r.mapping(n, path, fields{
		"in-flight": func(n *yaml.Node, path string) {
			v, ok := r.number(n, path, 1, 1_000_000)
			set(&q.InFlight, v, ok)
			q.Origin = r.at(n)
		},
		"waiting": func(n *yaml.Node, path string) { q.Waiting, _ = r.number(n, path, 0, 1_000_000) },
		"wait-at-most": func(n *yaml.Node, path string) {
			d, ok := r.duration(n, path, time.Nanosecond)
			set(&q.WaitAtMost, d, ok)
		},
		"breaker":  func(n *yaml.Node, path string) { s.Breaker = r.breaker(n, path) },
		"sideline": func(n *yaml.Node, path string) { s.Sideline = r.sideline(n, path) },
	})
	for _, k := range []string{"waiting", "wait-at-most"} {
		if at := seen[k]; at != nil && !seen.has("in-flight") {
			r.mistake(
				at,
				path+"."+k,
				CodeMissing,
				k+" has no effect without in-flight",
				"in-flight: the limit of requests at once",
			)
		}
	}
	if q.InFlight > 0 {
		s.Queue = q
	}
}

func (r *reader) breaker(n *yaml.Node, path string) *Breaker {
	b := &Breaker{
		Over:    10 * time.Second,
		Least:   20,
		OpenFor: 10 * time.Second,
		Probes:  3,
		Origin:  r.at(n),
	}
	time1 := func(to *time.Duration) func(*yaml.Node, string) {
		return func(n *yaml.Node, path string) {
			d, ok := r.duration(n, path, time.Millisecond)
			set(to, d, ok)
		}
	}
	count := func(to *int) func(*yaml.Node, string) {
		return func(n *yaml.Node, path string) {
			v, ok := r.number(n, path, 1, 1_000_000)
			set(to, v, ok)
		}
	}
	seen := r.mapping(n, path, fields{
		"errors": func(n *yaml.Node, path string) { b.Errors, _ = r.percent(n, path, 1) },
		"slow": func(n *yaml.Node, path string) {
			const expected = "a share and a duration, such as 80% over 2s"
			s, ok := r.scalar(n, path, expected)
			if !ok {
				return
			}
			share, over, cut := strings.Cut(s, " over ")
			p, err := ParsePercent(share)
			if !cut || err != nil || p == 0 {
				r.mistake(n, path, CodeBadValue, fmt.Sprintf("%q is not a share and a duration", s), expected)
				return
			}
			if d, ok := r.parseDuration(n, path, strings.TrimSpace(over), time.Millisecond, expected); ok {
				b.Slow, b.SlowOver = p, d
			}
		},
		"over": time1(&b.Over), "open": time1(&b.OpenFor), "least": count(&b.Least), "probes": count(&b.Probes),
	})
	if isMapping(n) && !seen.has("errors") && !seen.has("slow") {
		r.mistake(n, path, CodeMissing, "the breaker never opens", "errors: 50%, or slow: 80% over 2s")
	}
	return b
}

func (r *reader) sideline(n *yaml.Node, path string) *Sideline {
	s := &Sideline{
		For:    30 * time.Second,
		Most:   50_000,
		Counts: []string{"5xx", "unreachable", "reset", "timeout"},
		Origin: r.at(n),
	}
	seen := r.mapping(n, path, fields{
		"after": func(n *yaml.Node, path string) { s.After, _ = r.number(n, path, 1, 1000) },
		"for": func(n *yaml.Node, path string) {
			d, ok := r.duration(n, path, time.Millisecond)
			set(&s.For, d, ok)
		},
		"most": func(n *yaml.Node, path string) {
			p, ok := r.percent(n, path, 1)
			set(&s.Most, p, ok)
		},
		"counts": func(n *yaml.Node, path string) { s.Counts = r.outcomes(n, path) },
	})
	r.need(n, path, seen, "sideline", "after")
	return s
}

func (r *reader) health(n *yaml.Node, path string) *Health {
	h := &Health{Every: 5 * time.Second, DownAfter: 3, UpAfter: 2, Origin: r.at(n)}
	seen := r.mapping(n, path, fields{
		"path": func(n *yaml.Node, path string) {
			if s, ok := r.scalar(n, path, "a path such as /healthz"); ok &&
				(!plainPath(s) || strings.Contains(s, "*")) {
				r.mistake(n, path, CodeBadValue, fmt.Sprintf("%q is not a valid path", s), "a path such as /healthz")
			} else {
				h.Path = s
			}
		},
		"every": func(n *yaml.Node, path string) {
			d, ok := r.duration(n, path, 100*time.Millisecond)
			set(&h.Every, d, ok)
		},
		"down-after": func(n *yaml.Node, path string) {
			v, ok := r.number(n, path, 1, 100)
			set(&h.DownAfter, v, ok)
		},
		"up-after": func(n *yaml.Node, path string) {
			v, ok := r.number(n, path, 1, 100)
			set(&h.UpAfter, v, ok)
		},
	})
	r.need(n, path, seen, "health", "path")
	return h
}

func (r *reader) identity(n *yaml.Node, path string) *Identity {
	if mode := r.choice(n, path, IdentityRequired, IdentityOptional, IdentityNone); mode != "" {
		return &Identity{mode, r.at(n)}
	}
	return nil
}

func (r *reader) balance(n *yaml.Node, path string) *Balance {
	const expected = "in-turn, least-busy, random, or hash:KEY such as hash:header:x-user"
	s, ok := r.scalar(n, path, expected)
	if !ok {
		return nil
	}
	b := &Balance{Kind: s, Origin: r.at(n)}
	if key, hashed := strings.CutPrefix(s, "hash:"); hashed {
		k, ok := r.parseKey(n, path, key)
		if !ok {
			return nil
		}
		b.Kind, b.Key = "hash", &k
		return b
	}
	if b.Kind = r.choice(n, path, "in-turn", "least-busy", "random"); b.Kind == "" {
		r.findings[len(r.findings)-1].Expected = expected
		return nil
	}
	return b
}

func (r *reader) failover(n *yaml.Node, path string) *Failover {
	f := &Failover{Below: 50_000, Origin: r.at(n)}
	seen := r.mapping(n, path, fields{
		"order": func(n *yaml.Node, path string) {
			r.short(n, path, "sites", func(n *yaml.Node, path string) {
				s, ok := r.name(n, path, nameShape, nameExpected)
				if !ok {
					return
				}
				for _, before := range f.Order {
					if before == s {
						r.mistake(
							n,
							path,
							CodeDeclaredTwice,
							fmt.Sprintf("site %s is listed twice", s),
							"each site once",
						)
						return
					}
				}
				f.Order = append(f.Order, s)
			})
		},
		"below": func(n *yaml.Node, path string) {
			p, ok := r.percent(n, path, 1)
			set(&f.Below, p, ok)
		},
	})
	r.need(n, path, seen, "failover", "order")
	return f
}
