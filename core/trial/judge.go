package trial

import (
	"fmt"
	"math"
	"strings"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/core/stats"
)

// Tally adds up what the requests of a trial came to. The zero value is empty.
type Tally struct {
	stats.Counts
	Versions map[string]uint64 // answers by SERVICE/VERSION
}

// Judgement is what became of one expectation.
type Judgement struct {
	Expectation string `json:"expectation"` // as it was written
	Met         bool   `json:"met"`
	Sure        bool   `json:"sure"` // the whole 95% interval says the same
	// what was measured: shares 0 to 1, times in seconds, counts as they are; null without
	// requests
	Value *float64 `json:"value"`
	// 95% interval of the value, where chance has a part in it
	Low      *float64 `json:"low,omitempty"`
	High     *float64 `json:"high,omitempty"`
	Measured string   `json:"measured"` // the same in words
	// while the trial runs: whatever comes, it cannot be met any more
	Hopeless bool `json:"hopeless,omitempty"`
}

// hair is how far floating point may be off.
const hair = 1e-9

// Judge compares what was measured in so many seconds with what was expected,
// while left more requests are to come.
func Judge(e *rules.Expectation, t *Tally, seconds float64, left uint64) Judgement {
	return judge(e, t, seconds, left, limits{stats.Wilson, t.QuantileInterval})
}

// JudgeAt is Judge with intervals whose limits are each wrong with a probability
// of at most alpha, however few the requests are; see stats.Exact. It is for who
// looks often and acts on the first surprise.
func JudgeAt(e *rules.Expectation, t *Tally, seconds float64, left uint64, alpha float64) Judgement {
	return judge(e, t, seconds, left, limits{
		func(hits, n uint64) (low, high float64) { return stats.Exact(hits, n, alpha) },
		func(q float64) (low, high time.Duration, bounded bool) { return t.QuantileIntervalAt(q, alpha) },
	})
}

// limits are how sure an interval is.
type limits struct {
	rate     func(hits, n uint64) (low, high float64)
	quantile func(q float64) (low, high time.Duration, bounded bool)
}

func judge(e *rules.Expectation, t *Tally, seconds float64, left uint64, by limits) Judgement {
	j := Judgement{Expectation: e.Text}
	m := measure(e, t, seconds, left, by)
	j.Hopeless = !reachable(e, m.least, m.most)
	if m.none {
		j.Measured = "no requests"
		return j
	}
	j.Value, j.Met = &m.value, holds(e, m.value)
	j.Measured = written(e, m.value)
	if j.Sure = true; m.interval {
		j.Low, j.High = &m.low, &m.high
		j.Sure = holds(e, m.low) == j.Met && holds(e, m.high) == j.Met &&
			(e.Op != "=" || j.Met || (m.low > e.Value) == (m.high > e.Value))
		high := written(e, m.high)
		if math.IsInf(m.high, 1) {
			j.High, j.Sure = nil, j.Sure && !j.Met
			high = "more"
		}
		j.Measured += fmt.Sprintf(" (%s to %s)", written(e, m.low), high)
	}
	return j
}

// measured is a figure, its 95% interval if chance has a part in it, and the
// least and the most that it can still become.
type measured struct {
	none        bool
	value       float64
	interval    bool
	low, high   float64
	least, most float64
}

func measure(e *rules.Expectation, t *Tally, seconds float64, left uint64, by limits) measured {
	switch n := t.Requests(); e.Metric {
	case "success":
		return rate(t.OK, n, left, by)
	case "first-try":
		return rate(t.FirstOK, n, left, by)
	case "share":
		service, _, _ := strings.Cut(e.Of, "/")
		all := uint64(0)
		for name, count := range t.Versions {
			if s, _, _ := strings.Cut(name, "/"); s == service {
				all += count
			}
		}
		return rate(t.Versions[e.Of], all, left, by)
	case "load-factor":
		if n == 0 {
			return measured{none: true, most: math.Inf(1)}
		}
		return measured{
			value: float64(t.Tries) / float64(n),
			least: float64(t.Tries) / float64(n+left),
			most:  math.Inf(1),
		}
	case "refused":
		count := t.Refused
		for i, r := range engine.Reasons {
			if string(r) == e.Of {
				count = t.Reasons[i]
			}
		}
		return amount(count, left, 1)
	case "failed":
		return amount(t.Failed, left, 1)
	case "requests":
		return amount(n, left, 1)
	case "rps":
		return amount(n, left, seconds)
	}
	return quantile(t, map[string]float64{"p50": 0.5, "p90": 0.9, "p95": 0.95, "p99": 0.99}[e.Metric], left, by)
}

func rate(hits, n, left uint64, by limits) measured {
	m := measured{none: n == 0, least: 0, most: 1}
	if n+left > 0 {
		m.least, m.most = float64(hits)/float64(n+left), float64(hits+left)/float64(n+left)
	}
	if n > 0 {
		m.value, m.interval = float64(hits)/float64(n), true
		m.low, m.high = by.rate(hits, n)
	}
	return m
}

func amount(count, left uint64, per float64) measured {
	per = max(per, 1e-3)
	return measured{value: float64(count) / per, least: float64(count) / per, most: float64(count+left) / per}
}

func quantile(t *Tally, q float64, left uint64, by limits) measured {
	n := uint64(0)
	for _, b := range t.Latency {
		n += b.N
	}
	rank := max(1, uint64(math.Ceil(q*float64(n+left))))
	m := measured{none: n == 0, most: math.Inf(1)}
	if rank <= n {
		m.most = t.Rank(rank).Seconds()
	}
	if rank > left {
		m.least = t.Rank(min(rank-left, n)).Seconds()
	}
	if n == 0 {
		return m
	}
	low, high, bounded := by.quantile(q)
	m.value, m.low, m.high, m.interval = t.Quantile(q).Seconds(), low.Seconds(), high.Seconds(), true
	if !bounded {
		m.high = math.Inf(1)
	}
	return m
}

func holds(e *rules.Expectation, v float64) bool {
	switch e.Op {
	case ">=":
		return v >= e.Value-hair
	case "<=":
		return v <= e.Value+hair
	case ">":
		return v > e.Value+hair
	case "<":
		return v < e.Value-hair
	}
	return math.Abs(v-e.Value) <= e.Within+hair
}

// reachable tells whether a value from least to most meets the expectation.
func reachable(e *rules.Expectation, least, most float64) bool {
	switch e.Op {
	case ">=", ">":
		return holds(e, most)
	case "<=", "<":
		return holds(e, least)
	}
	return least <= e.Value+e.Within+hair && most >= e.Value-e.Within-hair
}

// written is a value in the unit of its figure.
func written(e *rules.Expectation, v float64) string {
	switch {
	case e.Unit == "%":
		return fmt.Sprintf("%.2f%%", 100*v)
	case e.Unit == "s" && !math.IsInf(v, 0):
		d := time.Duration(v * float64(time.Second))
		switch {
		case d >= time.Second:
			return d.Round(10 * time.Millisecond).String()
		case d >= 10*time.Millisecond:
			return d.Round(100 * time.Microsecond).String()
		}
		return d.Round(10 * time.Microsecond).String()
	case v == math.Trunc(v):
		return fmt.Sprintf("%.0f", v)
	}
	return fmt.Sprintf("%.3g", v)
}
