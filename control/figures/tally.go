package figures

import (
	"strconv"
	"time"

	"nightjar/api/model"
	"nightjar/core/engine"
	"nightjar/core/stats"
	"nightjar/telemetry"
)

// Tally adds up a group of requests. The zero value is empty.
type Tally struct {
	stats.Counts              // as callers saw them
	Workload     stats.Counts // as the workloads answered
	Mirrored     uint64       // copies by a mirror
	Open         int64        // TCP connections now
}

// Take adds what a series counted.
func (t *Tally) Take(n *telemetry.Names, c *stats.Counts) {
	switch {
	case n.Copy:
		t.Mirrored += c.Requests()
	case n.App:
		t.Workload.Add(c)
	default:
		t.Add(c)
	}
}

// Figures returns the figures of the group, for a window of this many seconds.
func (t *Tally) Figures(seconds float64) model.Figures {
	n := t.Requests()
	f := model.Figures{
		Requests:        n,
		RPS:             float64(n) / seconds,
		OK:              t.OK,
		Failed:          t.Failed,
		Refused:         t.Refused,
		Abandoned:       t.Abandoned,
		CallerFault:     t.CallerFault,
		Attempts:        t.Tries,
		RequestBytes:    t.Sent,
		ResponseBytes:   t.Received,
		OpenConnections: t.Open,
		P50MS:           Millis(t.Quantile(0.50)),
		P95MS:           Millis(t.Quantile(0.95)),
		P99MS:           Millis(t.Quantile(0.99)),
		Success:         Share(t.OK, n),
		FirstAttempt:    Share(t.FirstOK, n),
	}
	f.AttemptsPerRequest = Share(t.Tries, n)
	f.SuccessLow, f.SuccessHigh = stats.Wilson(t.OK, n)
	for class, count := range t.Status {
		if count > 0 {
			f.Status = put(f.Status, strconv.Itoa(class)+"xx", count)
		}
	}
	for i, reason := range engine.Reasons {
		if count := t.Reasons[i]; count > 0 {
			f.Reasons = put(f.Reasons, string(reason), count)
		}
	}
	if w := &t.Workload; w.Requests()+t.Mirrored > 0 {
		f.Workload = &model.WorkloadFigures{
			Requests: w.Requests(),
			RPS:      float64(w.Requests()) / seconds,
			Success:  Share(w.OK, w.Requests()),
			P50MS:    Millis(w.Quantile(0.50)),
			P95MS:    Millis(w.Quantile(0.95)),
			P99MS:    Millis(w.Quantile(0.99)),
			Mirrored: t.Mirrored,
		}
	}
	return f
}

// Point is the figures of the group as one point of a timeline.
func (t *Tally) Point(at int64) model.Point {
	return model.Point{
		At:               at,
		OK:               t.OK,
		Failed:           t.Failed,
		Refused:          t.Refused,
		Success:          Share(t.OK, t.Requests()),
		P50MS:            Millis(t.Quantile(0.5)),
		P95MS:            Millis(t.Quantile(0.95)),
		P99MS:            Millis(t.Quantile(0.99)),
		WorkloadOK:       t.Workload.OK,
		WorkloadRequests: t.Workload.Requests(),
	}
}

// Millis is a time in milliseconds.
func Millis(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// Share is part of whole; nil of nothing.
func Share(part, whole uint64) *float64 {
	if whole == 0 {
		return nil
	}
	f := float64(part) / float64(whole)
	return &f
}

// put sets a value of a map that may be nil.
func put(m map[string]uint64, k string, n uint64) map[string]uint64 {
	if m == nil {
		m = map[string]uint64{}
	}
	m[k] = n
	return m
}
