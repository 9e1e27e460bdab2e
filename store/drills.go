package store

import (
	"context"
	"time"

	"nightjar/wire"
)

// Drill is the record of a drill.
type Drill struct {
	Number  uint
	By      string
	When    string // condition as it was written
	Began   time.Time
	Ends    time.Time
	Stopped time.Time // before its end; zero: it was not stopped
	Spec    wire.Drill
}

type drillRow struct {
	Number  uint `gorm:"primaryKey;autoIncrement"`
	By      string
	Cohort  string
	Began   time.Time
	Ends    time.Time
	Stopped time.Time
	Spec    string // JSON
}

func (drillRow) TableName() string { return "drills" }

// Drills lists drills, newest first.
func (s *Store) Drills(ctx context.Context, limit int) ([]Drill, error) {
	var rows []drillRow
	if err := s.read.WithContext(ctx).Order("number DESC").Limit(limit).Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]Drill, len(rows))
	for i, row := range rows {
		out[i] = Drill{
			Number:  row.Number,
			By:      row.By,
			When:    row.Cohort,
			Began:   row.Began.UTC(),
			Ends:    row.Ends.UTC(),
			Stopped: row.Stopped.UTC(),
		}
		if err := decode(row.Spec, &out[i].Spec, "drill %d", row.Number); err != nil {
			return nil, err
		}
	}
	return out, nil
}
