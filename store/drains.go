package store

import (
	"context"
	"time"
)

// Drain is that the instances of a site give their requests away, or take them back. It is
// kept as JSON.
type Drain struct {
	Site  string
	By    string
	Began time.Time
	Over  time.Duration
	From  float64 // part of their shares that instances gave away when it began, 0 to 1
	To    float64 // that they give away after Over: 1, or 0 when they take them back
}

type drainRow struct {
	Site   string `gorm:"primaryKey"`
	Record string
}

func (drainRow) TableName() string { return "site_drains" }

// Drains lists the drains, by site.
func (s *Store) Drains(ctx context.Context) ([]Drain, error) {
	var rows []drainRow
	if err := s.read.WithContext(ctx).Order("site").Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]Drain, len(rows))
	for i, row := range rows {
		if err := decode(row.Record, &out[i], "the drain of %s", row.Site); err != nil {
			return nil, err
		}
	}
	return out, nil
}
