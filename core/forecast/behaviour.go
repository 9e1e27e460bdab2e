package forecast

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"nightjar/core/rules"
)

// Changes say what to take for certain of some versions, by SERVICE/VERSION, in
// place of what was measured.
type Changes map[string]Change

// Change is what is said of one version; nil parts stay as they are.
type Change struct {
	Own    Times
	Hop    *time.Duration
	Errors *float64
	AtOnce *int
	Calls  []Call // Kinds hold at most a path; nil: as measured
}

type fileCall struct {
	To     string `yaml:"to"`
	Path   string `yaml:"path"`
	Method string `yaml:"method"`
	Share  string `yaml:"share"`
	Times  int    `yaml:"times"`
	Needed bool   `yaml:"needed"`
}

type fileVersion struct {
	Time   map[string]string `yaml:"time"`
	Errors string            `yaml:"errors"`
	AtOnce *int              `yaml:"at-once"`
	Hop    string            `yaml:"hop"`
	Calls  *[]fileCall       `yaml:"calls"`
}

// ReadChanges reads a behaviour file:
//
//	behaviour:
//	  sailings/v2:
//	    time: {median: 11ms, spread: 0.35, slow: 3%}   # log-normal; slow ones take ten times as long
//	    errors: 2%                                     # or time: {p10: 5ms, p50: 8ms, p99: 30ms}
//	    at-once: 16
//	    hop: 300us
//	    calls: [{to: berths, path: /berths/free, share: 20%, needed: true}]
//
// Whatever is not said of a version is as it was measured. All mistakes are
// reported together.
func ReadChanges(name, text string) (Changes, error) {
	var file struct {
		Behaviour map[string]fileVersion `yaml:"behaviour"`
	}
	if err := yaml.Load([]byte(text), &file, yaml.WithKnownFields()); err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", name, err)
	}
	if len(file.Behaviour) == 0 {
		return nil, fmt.Errorf(
			"%s says nothing: expected behaviour: {SERVICE/VERSION: {time: …, errors: …, at-once: …, calls: …}}",
			name,
		)
	}
	out := Changes{}
	var errs []error
	for of, v := range file.Behaviour {
		c, err := v.read()
		if service, version, ok := strings.Cut(of, "/"); !ok || service == "" || version == "" {
			err = errors.Join(err, errors.New("expected SERVICE/VERSION"))
		}
		if err != nil {
			errs = append(errs, fmt.Errorf("%s: %s: %w", name, of, err))
		}
		out[of] = c
	}
	slices.SortFunc(errs, func(a, b error) int { return strings.Compare(a.Error(), b.Error()) })
	return out, errors.Join(errs...)
}

func (v *fileVersion) read() (c Change, err error) {
	var errs []error
	bad := func(format string, args ...any) { errs = append(errs, fmt.Errorf(format, args...)) }
	share := func(what, text string) float64 {
		p, err := rules.ParsePercent(text)
		if err != nil {
			bad("%s: %q is not a share, such as 2%%", what, text)
		}
		return p.Share()
	}
	length := func(what, text string) time.Duration {
		d, err := time.ParseDuration(text)
		if err != nil || d < 0 || d > time.Hour {
			bad("%s: %q is not a time up to 1h, such as 8ms", what, text)
		}
		return d
	}
	if v.Time != nil {
		c.Own = v.times(length, share, bad)
	}
	if v.Errors != "" {
		e := share("errors", v.Errors)
		c.Errors = &e
	}
	if c.AtOnce = v.AtOnce; v.AtOnce != nil && *v.AtOnce < 0 {
		bad("at-once: %d is not a number of requests; 0 stands for any number", *v.AtOnce)
	}
	if v.Hop != "" {
		h := length("hop", v.Hop)
		c.Hop = &h
	}
	if v.Calls != nil {
		c.Calls = []Call{}
		for i, f := range *v.Calls {
			call := Call{To: f.To, PerOne: 1, Needed: f.Needed}
			switch {
			case f.To == "":
				bad("calls[%d]: to: which service?", i)
			case f.Share != "" && f.Times > 0:
				bad("calls[%d]: share or times, not both", i)
			case f.Share != "":
				call.PerOne = share(fmt.Sprintf("calls[%d].share", i), f.Share)
			case f.Times < 0 || f.Times > 100:
				bad("calls[%d].times: %d is not a number from 1 to 100", i, f.Times)
			case f.Times > 0:
				call.PerOne = float64(f.Times)
			}
			if f.Path != "" || f.Method != "" {
				path := f.Path
				if path == "" {
					path = "/"
				}
				if path[0] != '/' {
					bad("calls[%d].path: %q does not begin with /", i, path)
				}
				call.Kinds = []Kind{{1, &Request{Method: strings.ToUpper(f.Method), Path: path}}}
			}
			c.Calls = append(c.Calls, call)
		}
	}
	return c, errors.Join(errs...)
}

func (v *fileVersion) times(
	length func(string, string) time.Duration,
	share func(string, string) float64,
	bad func(string, ...any),
) Times {
	if median, ok := v.Time["median"]; ok {
		spread, slow := 0.0, 0.0
		for k, text := range v.Time {
			switch k {
			case "median":
			case "spread":
				var err error
				if spread, err = strconv.ParseFloat(text, 64); err != nil || !(spread >= 0 && spread <= 5) {
					bad("time.spread: %q is not a number from 0 to 5: the standard deviation of the logarithm", text)
				}
			case "slow":
				slow = share("time.slow", text)
			default:
				bad("time: with median go spread and slow, not %s", k)
			}
		}
		return LogNormal(length("time.median", median), spread, slow)
	}
	var points []Point
	for k, text := range v.Time {
		q, err := strconv.ParseFloat(strings.TrimPrefix(k, "p"), 64)
		if err != nil || !strings.HasPrefix(k, "p") || !(q >= 0 && q <= 100) {
			bad("time: %q is neither median nor a percentile such as p95", k)
			continue
		}
		points = append(points, Point{q / 100, length("time."+k, text)})
	}
	slices.SortFunc(points, func(a, b Point) int { return int(1e6*a.Share) - int(1e6*b.Share) })
	for i := 1; i < len(points); i++ {
		if points[i].At < points[i-1].At {
			bad("time: p%g is less than p%g", 100*points[i].Share, 100*points[i-1].Share)
		}
	}
	return Through(points)
}
