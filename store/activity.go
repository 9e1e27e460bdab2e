package store

import (
	"context"
	"time"
)

// Activity is an entry of the activity log: what a person did, or a proxy
// reported.
type Activity struct {
	Number   uint
	At       time.Time
	Who      string // a person, or the proxy that reported it
	Kind     string
	Service  string
	Version  string
	Instance string
	Detail   string
}

type activityRow struct {
	Number   uint `gorm:"primaryKey;autoIncrement"`
	At       time.Time
	Who      string
	Kind     string
	Service  string
	Version  string
	Instance string
	Detail   string
}

func (activityRow) TableName() string { return "activity" }

// Activity lists the log, newest first, from below the number before (0: from
// the newest). With a service, it lists the entries of that service, and drills that
// affect all services.
func (s *Store) Activity(ctx context.Context, service string, before uint, limit int) ([]Activity, error) {
	var rows []activityRow
	q := s.read.WithContext(ctx).Order("number DESC").Limit(limit)
	if service != "" {
		q = q.Where("service = ? OR service = '' AND kind IN ('drill-started', 'drill-ended')", service)
	}
	if before > 0 {
		q = q.Where("number < ?", before)
	}
	err := q.Find(&rows).Error
	out := make([]Activity, len(rows))
	for i, row := range rows {
		out[i] = Activity(row)
		out[i].At = row.At.UTC()
	}
	return out, err
}
