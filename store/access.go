package store

import (
	"context"
	"time"
)

// AccessSeen is how many requests of a day came to one thing between a caller and a
// service.
type AccessSeen struct {
	Day      string // 2006-01-02, UTC
	Caller   string // NAME or gateway/NAME; empty: it did not prove who it is
	Service  string
	Rule     string // access rule that decided, where that is known; of unproven: IP address
	Outcome  string // used, denied, watched, plain, unknown or unproven
	Requests uint64
	Last     time.Time
}

type accessSeenRow struct {
	Day      string `gorm:"primaryKey"`
	Caller   string `gorm:"primaryKey"`
	Service  string `gorm:"primaryKey"`
	Rule     string `gorm:"primaryKey"`
	Outcome  string `gorm:"primaryKey"`
	Requests uint64
	Last     time.Time
}

func (accessSeenRow) TableName() string { return "access_seen" }

// AccessSeen lists what was counted from a day on.
func (s *Store) AccessSeen(ctx context.Context, from string) ([]AccessSeen, error) {
	var rows []accessSeenRow
	err := s.read.WithContext(ctx).
		Where("day >= ?", from).
		Order("day, caller, service, rule, outcome").
		Find(&rows).
		Error
	out := make([]AccessSeen, len(rows))
	for i, r := range rows {
		r.Last = r.Last.UTC()
		out[i] = AccessSeen(r)
	}
	return out, err
}
