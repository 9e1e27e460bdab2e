package store

import (
	"bytes"
	"compress/flate"
	"context"
	"fmt"
	"io"

	"gorm.io/gorm"

	"nightjar/telemetry"
)

// How long telemetry is kept, in seconds: first in steps of ten seconds, then in
// steps of a minute.
const (
	FineTime   = 6 * 60 * 60
	CoarseTime = 14 * 24 * 60 * 60
	CoarseStep = 60
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

func deflate(b []byte) []byte {
	var out bytes.Buffer
	w, _ := flate.NewWriter(&out, flate.DefaultCompression)
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

// Telemetry visits what was counted from from to before to, in order of time. It
// is exact for whole steps.
func (s *Store) Telemetry(ctx context.Context, from, to int64, visit func(telemetry.Slot) error) error {
	var rows []telemetryRow
	q := s.read.WithContext(ctx).Where("at >= ? AND at < ?", from, to).Order("number")
	return q.FindInBatches(&rows, 200, func(*gorm.DB, int) error {
		for _, r := range rows {
			sealed, err := inflate(r.Counts)
			if err != nil {
				return err
			}
			if err := visit(telemetry.Slot{At: r.At, Sealed: sealed}); err != nil {
				return err
			}
		}
		return nil
	}).Error
}

// TelemetryState is all series, the last report of every proxy process, and the
// time of the first count; 0: there is none.
func (s *Store) TelemetryState(
	ctx context.Context,
) (known []telemetry.Named, seen map[string]uint64, first int64, err error) {
	db := s.read.WithContext(ctx)
	var series []seriesRow
	if err := db.Find(&series).Error; err != nil {
		return nil, nil, 0, err
	}
	for _, r := range series {
		n := telemetry.Named{ID: r.ID}
		if err := decode(r.Names, &n.Names, "series %d", r.ID); err != nil {
			return nil, nil, 0, err
		}
		known = append(known, n)
	}
	var rows []seenRow
	if err := db.Find(&rows).Error; err != nil {
		return nil, nil, 0, err
	}
	seen = map[string]uint64{}
	for _, r := range rows {
		seen[r.Nonce] = r.Sequence
	}
	first, err = s.FirstTelemetry(ctx)
	return known, seen, first, err
}

// maxRollUps is how many minutes RollUps reads at once.
const maxRollUps = 100

// RollUps reads minutes that are older than FineTime and still in finer steps, at
// most a hundred, and returns the changes that make each of them one row. hasMore
// tells whether there are others.
func (s *Store) RollUps(ctx context.Context, now int64) (out []Change, hasMore bool, err error) {
	end := (now - FineTime) / CoarseStep * CoarseStep
	var minutes []int64
	db := s.read.WithContext(ctx)
	err = db.Model(&telemetryRow{}).Where("seconds < ? AND at < ?", CoarseStep, end).
		Distinct("at / 60 * 60 AS minute").Order("minute").Limit(maxRollUps).Pluck("minute", &minutes).Error
	if err != nil {
		return nil, false, err
	}
	for _, minute := range minutes {
		c := ReplaceTelemetry{At: minute, Seconds: CoarseStep}
		var rows []telemetryRow
		if err := db.Where("at >= ? AND at < ?", minute, minute+CoarseStep).Find(&rows).Error; err != nil {
			return nil, false, err
		}
		parts := make([][]byte, len(rows))
		for i, r := range rows {
			c.Rows = append(c.Rows, r.Number)
			if parts[i], err = inflate(r.Counts); err != nil {
				return nil, false, err
			}
		}
		if c.Sealed, err = telemetry.Merge(parts); err != nil {
			return nil, false, err
		}
		out = append(out, c)
	}
	return out, len(minutes) == maxRollUps, nil
}

// UnusedSeries lists the series that no telemetry from a second on counts. It
// reads all telemetry.
func (s *Store) UnusedSeries(ctx context.Context, from, to int64) (unused []uint32, err error) {
	used := map[uint32]bool{}
	err = s.Telemetry(ctx, from, to, func(slot telemetry.Slot) error { return telemetry.IDs(slot.Sealed, used) })
	if err != nil {
		return nil, err
	}
	var ids []uint32
	if err := s.read.WithContext(ctx).Model(&seriesRow{}).Pluck("id", &ids).Error; err != nil {
		return nil, err
	}
	for _, id := range ids {
		if !used[id] {
			unused = append(unused, id)
		}
	}
	return unused, nil
}

// FirstTelemetry is the time of the oldest telemetry; 0: there is none.
func (s *Store) FirstTelemetry(ctx context.Context) (at int64, err error) {
	err = s.read.WithContext(ctx).Model(&telemetryRow{}).Select("COALESCE(MIN(at), 0)").Scan(&at).Error
	return at, err
}
