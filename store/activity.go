package store

import (
	"context"
	"time"
)

// maxActivity bounds the log: past it, the oldest tenth goes.
const maxActivity = 100_000

// Activity is one thing that happened: what a person did, or a proxy saw.
type Activity struct {
	Number   uint      `gorm:"primaryKey;autoIncrement" json:"number"`
	At       time.Time `json:"at"`
	Who      string    `json:"who" doc:"a person, or the proxy that saw it"`
	Kind     string    `json:"kind"`
	Service  string    `json:"service,omitempty"`
	Version  string    `json:"version,omitempty"`
	Instance string    `json:"instance,omitempty"`
	Detail   string    `json:"detail"`
}

func (Activity) TableName() string { return "activity" }

// AddActivity adds to the log, in the order given.
func (s *Store) AddActivity(ctx context.Context, list []Activity) error {
	db := s.write.WithContext(ctx)
	if err := db.CreateInBatches(&list, 100).Error; err != nil {
		return err
	}
	last := list[len(list)-1].Number
	if last%(maxActivity/10) < uint(len(list)) && last > maxActivity {
		return db.Where("number <= ?", last-maxActivity).Delete(&Activity{}).Error
	}
	return nil
}

// Activity lists the log, newest first, from below the number before (0: from
// the newest); of one service, with the drills that harm all, if it is named.
func (s *Store) Activity(ctx context.Context, service string, before uint, limit int) ([]Activity, error) {
	out := []Activity{}
	q := s.read.WithContext(ctx).Order("number DESC").Limit(limit)
	if service != "" {
		q = q.Where("service = ? OR service = '' AND kind IN ('drill-began', 'drill-ended')", service)
	}
	if before > 0 {
		q = q.Where("number < ?", before)
	}
	err := q.Find(&out).Error
	for i := range out {
		out[i].At = out[i].At.UTC()
	}
	return out, err
}
