package rules

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"
)

func (r *reader) release(k, v *yaml.Node, path string) {
	rel := &Release{
		Name:      k.Value,
		Each:      time.Minute,
		OnSuccess: "leave",
		At:        r.at(k),
		Judge:     Judge{Least: 50, Every: 10 * time.Second, Patience: 5 * time.Minute},
	}
	if _, ok := r.name(k, path, nameShape, nameExpected); !ok {
		return
	}
	version := func(to *string) func(*yaml.Node, string) {
		return func(n *yaml.Node, path string) { *to, _ = r.name(n, path, versionShape, versionExpected) }
	}
	seen := r.mapping(v, path, fields{
		"service": func(n *yaml.Node, path string) { rel.Service, _ = r.name(n, path, nameShape, nameExpected) },
		"route":   func(n *yaml.Node, path string) { rel.Route, _ = r.name(n, path, nameShape, nameExpected) },
		"from":    version(&rel.From),
		"to":      version(&rel.To),
		"first-to": func(n *yaml.Node, path string) {
			c := r.condition(n, path)
			rel.FirstTo = &c
		},
		"stages": func(n *yaml.Node, path string) {
			rel.Stages = r.shares(n, path)
			for i := 1; i < len(rel.Stages); i++ {
				if rel.Stages[i] <= rel.Stages[i-1] {
					r.mistake(
						n,
						path,
						CodeBadValue,
						fmt.Sprintf("stage %s%% follows %s%%", rel.Stages[i], rel.Stages[i-1]),
						"rising stages, such as [2%, 15%, 50%, 100%]",
					)
					return
				}
			}
		},
		"dark": func(n *yaml.Node, path string) { rel.Dark, _ = r.percent(n, path, 1) },
		"each": func(n *yaml.Node, path string) {
			d, ok := r.duration(n, path, time.Second)
			set(&rel.Each, d, ok)
		},
		"watch":   func(n *yaml.Node, path string) { rel.Watch, _ = r.duration(n, path, time.Second) },
		"hold-at": func(n *yaml.Node, path string) { rel.HoldAt = r.shares(n, path) },
		"judge":   func(n *yaml.Node, path string) { r.judge(&rel.Judge, n, path) },
		"load":    func(n *yaml.Node, path string) { rel.Load = r.loads(n, path) },
		"notify":  func(n *yaml.Node, path string) { rel.Notify = r.receivers(n, path) },
		"on-success": func(n *yaml.Node, path string) {
			if s := r.choice(n, path, "make-default", "leave"); s != "" {
				rel.OnSuccess = s
			}
		},
	})
	r.need(k, path, seen, "release "+rel.Name, "service", "from", "to", "stages")
	if len(rel.Judge.Expect) == 0 {
		e, _ := ParseExpectation("success >= -1%")
		e.Metric, e.Text = AgainstFrom, AgainstFrom+" >= -1%"
		rel.Judge.Expect = []Expectation{e}
	}
	r.checkRelease(rel, seen, path)
	if r.once(k, path, "release "+rel.Name) {
		r.rules.Releases = append(r.rules.Releases, rel)
	}
}

// checkRelease reports what does not fit together in a release. seen are the values
// of its keys.
func (r *reader) checkRelease(rel *Release, seen keys, path string) {
	if rel.From != "" && rel.From == rel.To {
		r.mistake(seen["to"], path+".to", CodeBadValue, "from and to are the same version", "two versions")
	}
	if n := len(rel.Stages); n > 0 && rel.OnSuccess == "make-default" && rel.Stages[n-1] != Whole {
		r.mistake(
			seen["stages"],
			path+".stages",
			CodeBadValue,
			fmt.Sprintf("%s would become the default after a last stage of %s%%", rel.To, rel.Stages[n-1]),
			"a last stage of 100%, or on-success: leave",
		)
	}
	for i := range rel.Load {
		if l := &rel.Load[i]; len(l.Steps) > 0 || l.Spike != nil {
			r.findings = append(r.findings, Finding{
				Severity: Mistake,
				Code:     CodeBadValue,
				At:       l.At,
				Path:     path + ".load",
				Message:  "the load of a release has no fixed length, so it has no steps and no spike",
				Expected: "rate: 20/s",
			})
		}
	}
	if at := seen["hold-at"]; at != nil {
		for _, h := range rel.HoldAt {
			if !slices.Contains(rel.Stages, h) {
				msg := fmt.Sprintf("no stage of %s%% to hold at", h)
				r.mistake(at, path+".hold-at", CodeBadValue, msg, "one of the stages")
			}
		}
	}
}

// IsReceiver tells whether a URL is one that events can be sent to.
func IsReceiver(text string) bool {
	u, err := url.Parse(text)
	return err == nil && (u.Scheme == "http" || u.Scheme == "https") && u.Host != "" && u.User == nil
}

// receivers reads URLs, or mappings of a URL and how it is told.
func (r *reader) receivers(n *yaml.Node, path string) (out []Receiver) {
	r.items(n, path, func(n *yaml.Node, path string) {
		to := Receiver{At: r.at(n)}
		read := func(n *yaml.Node, path string) {
			s, ok := r.scalar(n, path, "a URL")
			if !ok {
				return
			}
			if !IsReceiver(s) {
				r.mistake(
					n,
					path,
					CodeBadValue,
					fmt.Sprintf("%q is not a URL to notify", s),
					"http://HOST/PATH or https://HOST/PATH, without a password",
				)
				return
			}
			to.URL = s
		}
		if isMapping(n) {
			seen := r.mapping(n, path, fields{
				"url": read,
				"mode": func(n *yaml.Node, path string) {
					to.Binary = r.choice(n, path, "structured", "binary") == "binary"
				},
				"gate": func(n *yaml.Node, path string) { to.Gate = r.yes(n, path) },
			})
			r.need(n, path, seen, "this receiver", "url")
		} else {
			read(n, path)
		}
		if to.URL != "" {
			out = append(out, to)
		}
	})
	return out
}

// shares reads a list of percentages above zero.
func (r *reader) shares(n *yaml.Node, path string) []Percent {
	var out []Percent
	r.items(n, path, func(n *yaml.Node, path string) {
		if p, ok := r.percent(n, path, 1); ok {
			out = append(out, p)
		}
	})
	return out
}

// judge reads what a stage has to show: a figure and the bound, one a key, and
// any expectation under expect.
func (r *reader) judge(j *Judge, n *yaml.Node, path string) {
	bound := func(metric string) func(*yaml.Node, string) {
		return func(n *yaml.Node, path string) {
			s, ok := r.scalar(n, path, `a comparison such as ">= 98.5%"`)
			if !ok {
				return
			}
			against := strings.TrimSuffix(metric, "-against-from") // the figure that is compared
			e, err := ParseExpectation(against + " " + s)
			if err == nil && against == metric && e.Value < 0 {
				err = fmt.Errorf("%s cannot be less than 0", metric)
			}
			if err != nil {
				r.mistake(n, path, CodeBadValue, err.Error(), `a comparison such as ">= 98.5%" or "<= 300ms"`)
				return
			}
			e.Metric, e.Text, e.At = metric, metric+" "+s, r.at(n)
			j.Expect = append(j.Expect, e)
		}
	}
	known := fields{
		AgainstFrom: bound(AgainstFrom),
		"expect":    func(n *yaml.Node, path string) { j.Expect = append(j.Expect, r.expectations(n, path)...) },
		"least": func(n *yaml.Node, path string) {
			v, ok := r.number(n, path, 1, 1_000_000)
			set(&j.Least, v, ok)
		},
		"every": func(n *yaml.Node, path string) {
			d, ok := r.duration(n, path, time.Second)
			set(&j.Every, d, ok)
		},
		"misses": func(n *yaml.Node, path string) { j.Misses, _ = r.number(n, path, 0, 100) },
		"patience": func(n *yaml.Node, path string) {
			d, ok := r.duration(n, path, time.Second)
			set(&j.Patience, d, ok)
		},
	}
	for _, metric := range []string{"success", "first-try", "p50", "p90", "p95", "p99"} {
		known[metric] = bound(metric)
	}
	r.mapping(n, path, known)
}

func (r *reader) expectations(n *yaml.Node, path string) []Expectation {
	var out []Expectation
	r.items(n, path, func(n *yaml.Node, path string) {
		s, ok := r.scalar(n, path, "an expectation such as success >= 98.5%")
		if !ok {
			return
		}
		e, err := ParseExpectation(s)
		if err == nil && e.Value < 0 {
			err = fmt.Errorf("%s cannot be less than 0", e.Metric)
		}
		if err != nil {
			r.mistake(
				n,
				path,
				CodeBadValue,
				err.Error(),
				"such as success >= 98.5%, p99 <= 300ms, share(sailings/v2) = 15% ± 2% or refused(limited) = 0",
			)
			return
		}
		e.At = r.at(n)
		out = append(out, e)
	})
	return out
}

func (r *reader) trial(k, v *yaml.Node, path string) {
	t := &Trial{Name: k.Value, For: 30 * time.Second, At: r.at(k)}
	if _, ok := r.name(k, path, nameShape, nameExpected); !ok {
		return
	}
	seen := r.mapping(v, path, fields{
		"load": func(n *yaml.Node, path string) { t.Load = r.loads(n, path) },
		"for": func(n *yaml.Node, path string) {
			d, ok := r.duration(n, path, time.Second)
			set(&t.For, d, ok)
		},
		"warm-up": func(n *yaml.Node, path string) { t.WarmUp, _ = r.duration(n, path, 0) },
		"drill":   func(n *yaml.Node, path string) { t.Drill = r.drill(n, path) },
		"expect":  func(n *yaml.Node, path string) { t.Expect = r.expectations(n, path) },
	})
	r.need(k, path, seen, "trial "+t.Name, "load")
	if r.once(k, path, "trial "+t.Name) {
		r.rules.Trials = append(r.rules.Trials, t)
	}
}

func (r *reader) loads(n *yaml.Node, path string) []Load {
	var out []Load
	r.items(n, path, func(n *yaml.Node, path string) {
		l := Load{Method: "GET", Path: "/", At: r.at(n)}
		seen := r.mapping(n, path, fields{
			"from": func(n *yaml.Node, path string) { l.From, _ = r.name(n, path, nameShape, nameExpected) },
			"to":   func(n *yaml.Node, path string) { l.To, _ = r.name(n, path, nameShape, nameExpected) },
			"method": func(n *yaml.Node, path string) {
				if m := r.methods(n, path); len(m) == 1 {
					l.Method = m[0]
				} else if len(m) > 1 {
					r.mistake(n, path, CodeWrongType, "this is "+kind(n), "one method")
				}
			},
			"path": func(n *yaml.Node, path string) {
				s, ok := r.scalar(n, path, "a path, with a query if needed")
				if p, _, _ := strings.Cut(s, "?"); ok && (!plainPath(p) || strings.ContainsAny(s, " #")) {
					r.mistake(
						n,
						path,
						CodeBadValue,
						fmt.Sprintf("%q is not a path to call", s),
						"a path such as /sailings/today?from=quay",
					)
				} else {
					l.Path = s
				}
			},
			"headers":  func(n *yaml.Node, path string) { l.Headers = r.requestFields(n, path) },
			"cookies":  func(n *yaml.Node, path string) { l.Cookies = r.cookieFields(n, path) },
			"body":     func(n *yaml.Node, path string) { l.Body, _ = r.scalar(n, path, "a text") },
			"rate":     func(n *yaml.Node, path string) { l.Rate.Count, l.Rate.Per, _ = r.rate(n, path) },
			"steps":    func(n *yaml.Node, path string) { l.Steps = r.rates(n, path) },
			"spike":    func(n *yaml.Node, path string) { l.Spike = r.spike(n, path) },
			"arrivals": func(n *yaml.Node, path string) { l.Random = r.choice(n, path, "even", "random") == "random" },
			"share":    func(n *yaml.Node, path string) { l.Shares = r.loadShares(n, path) },
		})
		r.need(n, path, seen, "this load", "to")
		switch {
		case isMapping(n) && !seen.has("rate") && !seen.has("steps"):
			r.mistake(n, path, CodeMissing, "the load has no rate", "rate: 20/s, or steps: [20/s, 40/s]")
		case seen.has("rate") && seen.has("steps"):
			r.mistake(seen["steps"], path+".steps", CodeBadValue, "steps and rate exclude each other", "rate or steps")
		}
		out = append(out, l)
	})
	return out
}

func (r *reader) rates(n *yaml.Node, path string) (out []Rate) {
	r.items(n, path, func(n *yaml.Node, path string) {
		if count, per, ok := r.rate(n, path); ok {
			out = append(out, Rate{count, per})
		}
	})
	return out
}

func (r *reader) spike(n *yaml.Node, path string) *Spike {
	s := &Spike{}
	seen := r.mapping(n, path, fields{
		"rate":  func(n *yaml.Node, path string) { s.Rate.Count, s.Rate.Per, _ = r.rate(n, path) },
		"after": func(n *yaml.Node, path string) { s.After, _ = r.duration(n, path, 0) },
		"for":   func(n *yaml.Node, path string) { s.For, _ = r.duration(n, path, time.Millisecond) },
	})
	r.need(n, path, seen, "this spike", "rate", "for")
	return s
}

func (r *reader) loadShares(n *yaml.Node, path string) (out []LoadShare) {
	sum := Percent(0)
	r.items(n, path, func(n *yaml.Node, path string) {
		s := LoadShare{}
		seen := r.mapping(n, path, fields{
			"headers": func(n *yaml.Node, path string) { s.Headers = r.requestFields(n, path) },
			"cookies": func(n *yaml.Node, path string) { s.Cookies = r.cookieFields(n, path) },
			"of":      func(n *yaml.Node, path string) { s.Of, _ = r.percent(n, path, 0) },
		})
		r.need(n, path, seen, "share", "of")
		if isMapping(n) && !seen.has("headers") && !seen.has("cookies") {
			r.mistake(n, path, CodeMissing, "the share has neither headers nor cookies", "headers or cookies")
		}
		if sum += s.Of; sum > Whole {
			r.mistake(n, path, CodeBadValue, fmt.Sprintf("the shares add to %s%%", sum), "100% at most")
		}
		out = append(out, s)
	})
	return out
}

// cookieFields reads cookies, each a name with one value.
func (r *reader) cookieFields(n *yaml.Node, path string) (out []Field) {
	r.pairs(n, path, func(k, v *yaml.Node, path string) {
		value, ok := r.scalar(v, path, "a value")
		if !ok {
			return
		}
		if strings.ContainsFunc(
			k.Value,
			func(c rune) bool { return c <= ' ' || c >= 0x7f || strings.ContainsRune(`()<>@,;:\"/[]?={}`, c) },
		) ||
			k.Value == "" {
			r.mistake(
				k,
				path,
				CodeBadName,
				fmt.Sprintf("%q is not a valid name of a cookie", k.Value),
				"letters, digits and hyphens",
			)
			return
		}
		if strings.ContainsFunc(
			value,
			func(c rune) bool { return c <= ' ' || c >= 0x7f || c == ';' || c == ',' || c == '"' || c == '\\' },
		) {
			r.mistake(
				v,
				path,
				CodeBadValue,
				fmt.Sprintf("%q is not a valid value of a cookie", value),
				"letters and digits, without spaces, commas, semicolons and quotes",
			)
			return
		}
		out = append(out, Field{k.Value, value})
	})
	return out
}

func (r *reader) drill(n *yaml.Node, path string) *Drill {
	d := &Drill{At: r.at(n)}
	seen := r.mapping(n, path, fields{
		"service": func(n *yaml.Node, path string) { d.Service, _ = r.name(n, path, nameShape, nameExpected) },
		"version": func(n *yaml.Node, path string) { d.Version, _ = r.name(n, path, versionShape, versionExpected) },
		"site":    func(n *yaml.Node, path string) { d.Site, _ = r.name(n, path, nameShape, nameExpected) },
		"fail":    func(n *yaml.Node, path string) { d.Fail, _ = r.percent(n, path, 0) },
		"delay":   func(n *yaml.Node, path string) { d.Delay, _ = r.duration(n, path, 0) },
		"down":    func(n *yaml.Node, path string) { d.Down = r.yes(n, path) },
	})
	if isMapping(n) && !seen.has("service") && !seen.has("site") {
		r.mistake(n, path, CodeMissing, "the drill has no target", "service or site")
	}
	if isMapping(n) && !seen.has("fail") && !seen.has("delay") && !seen.has("down") {
		r.mistake(n, path, CodeMissing, "the drill does nothing", "fail, delay or down")
	}
	return d
}
