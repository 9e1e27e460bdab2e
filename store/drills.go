package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"nightjar/wire"
)

// Drill is the record of a drill.
type Drill struct {
	Number  uint
	By      string
	When    string // as it was written
	Began   time.Time
	Ends    time.Time
	Stopped time.Time // before its end; zero: it was not
	Harm    wire.Drill
}

type drillRow struct {
	Number  uint `gorm:"primaryKey;autoIncrement"`
	By      string
	Cohort  string
	Began   time.Time
	Ends    time.Time
	Stopped time.Time
	Harm    string // JSON
}

func (drillRow) TableName() string { return "drills" }

// AddDrill stores a drill and gives it the next number, from which name makes
// its ID.
func (s *Store) AddDrill(ctx context.Context, d Drill, name func(number uint) string) (Drill, error) {
	row := drillRow{By: d.By, Cohort: d.When, Began: d.Began, Ends: d.Ends}
	tx := s.write.WithContext(ctx).Begin()
	defer tx.Rollback()
	if err := tx.Create(&row).Error; err != nil {
		return d, err
	}
	d.Number, d.Harm.ID = row.Number, name(row.Number)
	text, err := json.Marshal(d.Harm)
	if err != nil {
		return d, err
	}
	if err := tx.Model(&row).Update("harm", string(text)).Error; err != nil {
		return d, err
	}
	return d, tx.Commit().Error
}

// StopDrill notes that a drill was stopped before its end.
func (s *Store) StopDrill(ctx context.Context, number uint, at time.Time) error {
	return s.write.WithContext(ctx).Model(&drillRow{Number: number}).Update("stopped", at).Error
}

// Drills lists drills, newest first.
func (s *Store) Drills(ctx context.Context, limit int) ([]Drill, error) {
	var rows []drillRow
	if err := s.read.WithContext(ctx).Order("number DESC").Limit(limit).Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]Drill, len(rows))
	for i, row := range rows {
		out[i] = Drill{Number: row.Number, By: row.By, When: row.Cohort, Began: row.Began.UTC(), Ends: row.Ends.UTC(), Stopped: row.Stopped.UTC()}
		if err := json.Unmarshal([]byte(row.Harm), &out[i].Harm); err != nil {
			return nil, fmt.Errorf("drill %d cannot be read: %w", row.Number, err)
		}
	}
	return out, nil
}
