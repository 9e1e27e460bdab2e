package store

import (
	"bytes"
	"compress/flate"
	"context"
	"encoding/json"
	"fmt"
	"io"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"nightjar/telemetry"
)

// How long telemetry is kept, in seconds: in steps of ten seconds, and then in
// steps of a minute.
const (
	FineTime   = 6 * 60 * 60
	CoarseTime = 14 * 24 * 60 * 60
	coarseStep = 60
)

// telemetryRow is what was counted in so many seconds. Several rows of one time
// add up.
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

// AddTelemetry writes a batch, whole or not at all.
func (s *Store) AddTelemetry(ctx context.Context, b *telemetry.Batch, now int64) error {
	return s.write.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		for _, n := range b.Series {
			names, err := json.Marshal(n.Names)
			if err != nil {
				return err
			}
			if err := tx.Save(&seriesRow{n.ID, string(names)}).Error; err != nil {
				return err
			}
		}
		for _, slot := range b.Slots {
			if err := tx.Create(&telemetryRow{At: slot.At, Seconds: telemetry.Step, Counts: deflate(slot.Sealed)}).Error; err != nil {
				return err
			}
		}
		var seen []seenRow
		for nonce, seq := range b.Seen {
			seen = append(seen, seenRow{nonce, seq, now})
		}
		if len(seen) == 0 {
			return nil
		}
		return tx.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(seen, 200).Error
	})
}

// Telemetry visits what was counted from from to before to, in order of time.
// It holds for whole steps.
func (s *Store) Telemetry(ctx context.Context, from, to int64, visit func(telemetry.Slot) error) error {
	var rows []telemetryRow
	return s.read.WithContext(ctx).Where("at >= ? AND at < ?", from, to).Order("number").FindInBatches(&rows, 200, func(*gorm.DB, int) error {
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

// TelemetryState is all series, the last Delta of every proxy process, and the
// time of the first count; 0: there is none.
func (s *Store) TelemetryState(ctx context.Context) (known []telemetry.Named, seen map[string]uint64, first int64, err error) {
	db := s.read.WithContext(ctx)
	var series []seriesRow
	if err := db.Find(&series).Error; err != nil {
		return nil, nil, 0, err
	}
	for _, r := range series {
		n := telemetry.Named{ID: r.ID}
		if err := json.Unmarshal([]byte(r.Names), &n.Names); err != nil {
			return nil, nil, 0, fmt.Errorf("series %d: %w", r.ID, err)
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
	err = db.Model(&telemetryRow{}).Select("COALESCE(MIN(at), 0)").Scan(&first).Error
	return known, seen, first, err
}

// RollUp merges at most a hundred minutes that are older than FineTime into one
// row each. more tells whether there are others.
func (s *Store) RollUp(ctx context.Context, now int64) (more bool, err error) {
	end := (now - FineTime) / coarseStep * coarseStep
	var minutes []int64
	err = s.read.WithContext(ctx).Model(&telemetryRow{}).Where("seconds < ? AND at < ?", coarseStep, end).
		Distinct("at / 60 * 60 AS minute").Order("minute").Limit(100).Pluck("minute", &minutes).Error
	for _, minute := range minutes {
		if err == nil {
			err = s.write.WithContext(ctx).Transaction(func(tx *gorm.DB) error { return rollUp(tx, minute) })
		}
	}
	return len(minutes) == 100, err
}

func rollUp(tx *gorm.DB, minute int64) error {
	var rows []telemetryRow
	of := func() *gorm.DB { return tx.Where("at >= ? AND at < ?", minute, minute+coarseStep) }
	if err := of().Find(&rows).Error; err != nil {
		return err
	}
	var parts [][]byte
	for _, r := range rows {
		sealed, err := inflate(r.Counts)
		if err != nil {
			return err
		}
		parts = append(parts, sealed)
	}
	sum, err := telemetry.Merge(parts)
	if err != nil {
		return err
	}
	if err := of().Delete(&telemetryRow{}).Error; err != nil {
		return err
	}
	return tx.Create(&telemetryRow{At: minute, Seconds: coarseStep, Counts: deflate(sum)}).Error
}

// PruneTelemetry drops what is older than CoarseTime, and series that nothing
// is of any more, which it returns.
func (s *Store) PruneTelemetry(ctx context.Context, now int64) (gone []uint32, err error) {
	db := s.write.WithContext(ctx)
	old := db.Where("at < ?", now-CoarseTime).Delete(&telemetryRow{})
	if old.Error != nil {
		return nil, old.Error
	}
	if err := db.Where("at < ?", now-CoarseTime).Delete(&seenRow{}).Error; err != nil {
		return nil, err
	}
	if old.RowsAffected == 0 {
		return nil, nil
	}
	used := map[uint32]bool{}
	err = s.Telemetry(ctx, 0, now+coarseStep, func(slot telemetry.Slot) error { return telemetry.IDs(slot.Sealed, used) })
	if err != nil {
		return nil, err
	}
	var ids []uint32
	if err := s.read.WithContext(ctx).Model(&seriesRow{}).Pluck("id", &ids).Error; err != nil {
		return nil, err
	}
	for _, id := range ids {
		if !used[id] {
			gone = append(gone, id)
		}
	}
	for at := 0; at < len(gone); at += 500 {
		if err := db.Delete(&seriesRow{}, gone[at:min(at+500, len(gone))]).Error; err != nil {
			return nil, err
		}
	}
	return gone, nil
}
