package rules

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// Expectation is one line of what a trial or a judge expects, such as
//
//	success >= 98.5%
//	p99 <= 300ms
//	share(sailings/v2) = 15% ± 2%
//	refused(limited) = 0
type Expectation struct {
	// success, first-try, load-factor, rps, requests, failed, refused, share, p50, p90, p95 or p99
	Metric string  `json:"metric"`
	Of     string  `json:"of,omitempty"` // of share: service/version; of refused: a reason
	Op     string  `json:"op"`           // =, <, <=, > or >=
	Value  float64 `json:"value"`        // shares 0 to 1, times in seconds, counts as they are
	Within float64 `json:"within"`       // ± of the value
	Unit   string  `json:"unit"`         // % , s or empty
	Text   string  `json:"text"`         // as it was written
	At     Origin  `json:"at"`
}

var expectShape = regexp.MustCompile(`^([a-z0-9-]+)(?:\(([^()]*)\))?\s*(<=|>=|=|<|>)\s*([^±\s]+)\s*(?:±\s*(\S+))?$`)

// metrics are what can be expected, each with the unit of its values.
var metrics = map[string]string{
	"success":     "%",
	"first-try":   "%",
	"share":       "%",
	"load-factor": "",
	"rps":         "",
	"requests":    "",
	"failed":      "",
	"refused":     "",
	"p50":         "s",
	"p90":         "s",
	"p95":         "s",
	"p99":         "s",
}

// ParseExpectation reads one line. Whether the names in it are known is for
// the caller to find out.
func ParseExpectation(text string) (Expectation, error) {
	e := Expectation{Text: text}
	m := expectShape.FindStringSubmatch(strings.TrimSpace(text))
	if m == nil {
		return e, fmt.Errorf("%q is not an expectation: write METRIC = VALUE, such as success >= 98.5%%", text)
	}
	unit, known := metrics[m[1]]
	if !known {
		var names []string
		for name := range metrics {
			names = append(names, name)
		}
		return e, fmt.Errorf("%q is not a figure: expected %s", m[1], oneOf(m[1], names))
	}
	e.Metric, e.Of, e.Op, e.Unit = m[1], m[2], m[3], unit
	if takes := m[1] == "share" || m[1] == "refused"; !takes && m[2] != "" {
		return e, fmt.Errorf("%s takes no argument in brackets", m[1])
	} else if m[1] == "share" && m[2] == "" {
		return e, fmt.Errorf("share needs a version: share(SERVICE/VERSION)")
	}
	var err error
	if e.Value, err = quantity(m[4], unit); err != nil {
		return e, err
	}
	if m[5] != "" {
		if e.Op != "=" {
			return e, fmt.Errorf("± can only follow =")
		}
		if e.Within, err = quantity(m[5], unit); err != nil {
			return e, err
		}
	}
	return e, nil
}

// quantity reads a value in the unit that its metric has.
func quantity(s, unit string) (float64, error) {
	switch unit {
	case "%":
		number, ok := strings.CutSuffix(s, "%")
		v, err := strconv.ParseFloat(number, 64)
		if !ok || err != nil || !(v >= -100 && v <= 100) {
			return 0, fmt.Errorf("%q is not a percentage: write one such as 98.5%%", s)
		}
		return v / 100, nil
	case "s":
		d, err := time.ParseDuration(s)
		if err != nil || d < 0 {
			return 0, fmt.Errorf("%q is not a duration: write one with its unit, such as 300ms", s)
		}
		return d.Seconds(), nil
	}
	v, err := strconv.ParseFloat(s, 64)
	if err != nil || !(v >= 0 && v <= 1e12) {
		return 0, fmt.Errorf("%q is not a number", s)
	}
	return v, nil
}

// Reasons are the words that the mesh gives for its own answers.
var Reasons = []string{
	"unreachable",
	"reset",
	"timeout",
	"no-instance",
	"no-route",
	"breaker-open",
	"overflow",
	"limited",
	"denied",
	"unauthenticated",
	"fault",
	"bad-request",
	"too-large",
	"tls",
	"draining",
}
