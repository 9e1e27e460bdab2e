package store

import (
	"bytes"
	"compress/flate"
	"context"
	"fmt"
	"io"
	"math"
	"sync"

	"gorm.io/gorm"

	"nightjar/telemetry"
)

// How long telemetry is kept, in seconds: first in steps of ten seconds, then in
// steps of a minute.
const (
	FineTime   = 6 * 60 * 60
	CoarseTime = 14 * 24 * 60 * 60
	CoarseStep = 60
	// seenTime is how long the last report of a process of a proxy is known after it
	// fell silent. Proxies keep what they counted for minutes.
	seenTime = 24 * 60 * 60
)

// telemetryRow is what was counted in Seconds seconds from At on. Rows of the
// same time add up.
type telemetryRow struct {
	Number  uint `gorm:"primaryKey"`
	At      int64
	Seconds int64
	Counts  []byte // telemetry.Slot.Sealed, deflated
}

func (telemetryRow) TableName() string { return "telemetry" }

type seriesRow struct {
	ID    uint32 `gorm:"primaryKey;autoIncrement:false"`
	Names string // JSON
}

func (seriesRow) TableName() string { return "telemetry_series" }

type seenRow struct {
	Nonce    string `gorm:"primaryKey"`
	Sequence uint64
	At       int64
}

func (seenRow) TableName() string { return "telemetry_seen" }

// deflaters are writers to be used again: each has more than half a megabyte.
var deflaters = sync.Pool{New: func() any {
	w, _ := flate.NewWriter(nil, flate.DefaultCompression)
	return w
}}

func deflate(b []byte) []byte {
	var out bytes.Buffer
	w := deflaters.Get().(*flate.Writer)
	defer deflaters.Put(w)
	w.Reset(&out)
	w.Write(b)
	w.Close()
	return out.Bytes()
}

func inflate(b []byte) ([]byte, error) {
	out, err := io.ReadAll(flate.NewReader(bytes.NewReader(b)))
	if err != nil {
		return nil, fmt.Errorf("telemetry on disk: %w", err)
	}
	return out, nil
}

// snapshot lets do read the database as it is at one moment, whatever is written
// meanwhile.
func (s *Store) snapshot(ctx context.Context, do func(tx *gorm.DB) error) error {
	return s.read.WithContext(ctx).Transaction(do)
}

// Telemetry visits what was counted from from to before to, in order of time, as it is
// at one moment. It is exact for whole steps.
func (s *Store) Telemetry(ctx context.Context, from, to int64, visit func(telemetry.Slot) error) error {
	return s.snapshot(ctx, func(tx *gorm.DB) error { return eachSlot(tx, from, to, visit) })
}

func eachSlot(tx *gorm.DB, from, to int64, visit func(telemetry.Slot) error) error {
	const page = 200
	for last := (telemetryRow{At: from}); ; {
		var rows []telemetryRow
		err := tx.Where("(at, number) > (?, ?) AND at < ?", last.At, last.Number, to).
			Order("at, number").Limit(page).Find(&rows).Error
		if err != nil {
			return err
		}
		for _, r := range rows {
			sealed, err := inflate(r.Counts)
			if err != nil {
				return err
			}
			if err := visit(telemetry.Slot{At: r.At, Sealed: sealed}); err != nil {
				return err
			}
		}
		if len(rows) < page {
			return nil
		}
		last = rows[page-1]
	}
}

// TelemetryState is all series, the last report of every proxy process, and the
// time of the first count; 0: there is none.
func (s *Store) TelemetryState(
	ctx context.Context,
) (known []telemetry.Named, seen map[string]telemetry.Seen, first int64, err error) {
	seen = map[string]telemetry.Seen{}
	err = s.snapshot(ctx, func(tx *gorm.DB) error {
		var series []seriesRow
		if err := tx.Order("id").Find(&series).Error; err != nil {
			return err
		}
		for _, r := range series {
			n := telemetry.Named{ID: r.ID}
			if err := decode(r.Names, &n.Names, "series %d", r.ID); err != nil {
				return err
			}
			known = append(known, n)
		}
		var rows []seenRow
		if err := tx.Order("at DESC").Limit(telemetry.MaxSeen).Find(&rows).Error; err != nil {
			return err
		}
		for _, r := range rows {
			seen[r.Nonce] = telemetry.Seen{Sequence: r.Sequence, At: r.At}
		}
		first, err = firstTelemetry(tx)
		return err
	})
	return known, seen, first, err
}

// maxRollUps is how many minutes RollUps reads at once.
const maxRollUps = 100

// RollUps reads minutes that are older than FineTime and still in finer steps, at
// most a hundred, and returns the changes that make each of them one row. hasMore
// tells whether there are others.
func (s *Store) RollUps(ctx context.Context, now int64) (out []Change, hasMore bool, err error) {
	err = s.snapshot(ctx, func(tx *gorm.DB) error {
		out, err = rollUps(tx, (now-FineTime)/CoarseStep*CoarseStep)
		return err
	})
	return out, len(out) == maxRollUps, err
}

func rollUps(tx *gorm.DB, end int64) (out []Change, err error) {
	var minutes []int64
	err = tx.Model(&telemetryRow{}).Where("seconds < ? AND at < ?", CoarseStep, end).
		Distinct("at / 60 * 60 AS minute").Order("minute").Limit(maxRollUps).Pluck("minute", &minutes).Error
	if err != nil {
		return nil, err
	}
	for _, minute := range minutes {
		c := ReplaceTelemetry{At: minute, Seconds: CoarseStep}
		var rows []telemetryRow
		if err := tx.Where("at >= ? AND at < ?", minute, minute+CoarseStep).Find(&rows).Error; err != nil {
			return nil, err
		}
		parts := make([][]byte, len(rows))
		for i, r := range rows {
			c.Rows = append(c.Rows, r.Number)
			if parts[i], err = inflate(r.Counts); err != nil {
				return nil, err
			}
		}
		if c.Sealed, err = telemetry.Merge(parts); err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}

// UnusedSeries lists the series that no telemetry counts. It reads all telemetry.
func (s *Store) UnusedSeries(ctx context.Context) (unused []uint32, err error) {
	used := map[uint32]bool{}
	err = s.snapshot(ctx, func(tx *gorm.DB) error {
		err := eachSlot(tx, math.MinInt64, math.MaxInt64, func(slot telemetry.Slot) error {
			return telemetry.IDs(slot.Sealed, used)
		})
		if err != nil {
			return err
		}
		var ids []uint32
		if err := tx.Model(&seriesRow{}).Pluck("id", &ids).Error; err != nil {
			return err
		}
		for _, id := range ids {
			if !used[id] {
				unused = append(unused, id)
			}
		}
		return nil
	})
	return unused, err
}

// FirstTelemetry is the time of the oldest telemetry; 0: there is none.
func (s *Store) FirstTelemetry(ctx context.Context) (at int64, err error) {
	return firstTelemetry(s.read.WithContext(ctx))
}

func firstTelemetry(db *gorm.DB) (at int64, err error) {
	err = db.Model(&telemetryRow{}).Select("COALESCE(MIN(at), 0)").Scan(&at).Error
	return at, err
}
