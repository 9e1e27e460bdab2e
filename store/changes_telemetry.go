package store

import (
	"errors"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"nightjar/telemetry"
)

// AddTelemetry adds a batch of telemetry that was complete at the second At. A batch that
// is there already is added no second time: whoever could not see whether it was written
// writes it again.
type AddTelemetry struct {
	*telemetry.Batch
	At int64
}

func (c AddTelemetry) write(tx *gorm.DB) error {
	done := tx.Clauses(clause.OnConflict{
		Columns:   []clause.Column{{Name: "nonce"}},
		DoUpdates: clause.AssignmentColumns([]string{"sequence", "at"}),
		Where: clause.Where{
			Exprs: []clause.Expression{clause.Expr{SQL: "excluded.sequence > telemetry_seen.sequence"}},
		},
	}).Create(&seenRow{c.Writer, c.Number, c.At})
	if done.Error != nil || done.RowsAffected == 0 {
		return done.Error
	}
	for _, n := range c.Series {
		names, err := encode(n.Names)
		if err != nil {
			return err
		}
		if err := tx.Save(&seriesRow{n.ID, names}).Error; err != nil {
			return err
		}
	}
	for _, slot := range c.Slots {
		row := telemetryRow{At: slot.At, Seconds: telemetry.Step, Counts: deflate(slot.Sealed)}
		if err := tx.Create(&row).Error; err != nil {
			return err
		}
	}
	seen := make([]seenRow, 0, len(c.Seen))
	for nonce, sequence := range c.Seen {
		seen = append(seen, seenRow{nonce, sequence, c.At})
	}
	return insert(tx.Clauses(clause.OnConflict{UpdateAll: true}), seen)
}

// ErrTelemetryChanged means that rows are not what they were when they were read.
var ErrTelemetryChanged = errors.New("the telemetry was changed meanwhile")

// ReplaceTelemetry replaces rows by one row that holds what they held together. It fails
// with ErrTelemetryChanged when one of them is not there any more.
type ReplaceTelemetry struct {
	Rows    []uint // numbers of the rows
	At      int64  // start of the time that the new row covers, in seconds since 1970
	Seconds int64  // length of that time
	Sealed  []byte // see telemetry.Merge
}

func (c ReplaceTelemetry) write(tx *gorm.DB) error {
	done := tx.Where("at >= ? AND at < ?", c.At, c.At+c.Seconds).Delete(&telemetryRow{}, c.Rows)
	if done.Error == nil && done.RowsAffected != int64(len(c.Rows)) {
		return ErrTelemetryChanged
	}
	if done.Error != nil {
		return done.Error
	}
	return tx.Create(&telemetryRow{At: c.At, Seconds: c.Seconds, Counts: deflate(c.Sealed)}).Error
}

// PruneTelemetry deletes telemetry before a second, and what is known of processes that
// have been silent for long, or are too many, at the second Now.
type PruneTelemetry struct{ Before, Now int64 }

func (c PruneTelemetry) write(tx *gorm.DB) error {
	if err := tx.Where("at < ?", c.Before).Delete(&telemetryRow{}).Error; err != nil {
		return err
	}
	return tx.Where("at < ? OR nonce IN (SELECT nonce FROM telemetry_seen ORDER BY at DESC LIMIT -1 OFFSET ?)",
		c.Now-seenTime, telemetry.MaxSeen).Delete(&seenRow{}).Error
}

// DeleteSeries deletes the names of series. The one with the highest number stays, so
// that no number is used a second time.
type DeleteSeries []uint32

func (c DeleteSeries) write(tx *gorm.DB) error {
	for ids := []uint32(c); len(ids) > 0; ids = ids[min(batchRows, len(ids)):] {
		err := tx.Where("id < (SELECT MAX(id) FROM telemetry_series)").
			Delete(&seriesRow{}, ids[:min(batchRows, len(ids))]).Error
		if err != nil {
			return err
		}
	}
	return nil
}
