package store

import (
	"context"
	"fmt"
	"time"
)

// Trial is what every list needs of a trial.
type Trial struct {
	Number uint
	Name   string
	State  string
	Began  time.Time
	Ended  time.Time // zero while it is running, and when its end was never recorded
}

// trialRow is a trial: what a list shows of it, and all of it.
type trialRow struct {
	Number uint `gorm:"primaryKey;autoIncrement"`
	Name   string
	State  string
	Began  time.Time
	Ended  time.Time
	Head   string // JSON
	Body   []byte // JSON, gzipped; empty until its end
}

func (trialRow) TableName() string { return "trials" }

func (r *trialRow) trial() Trial {
	return Trial{r.Number, r.Name, r.State, r.Began.UTC(), r.Ended.UTC()}
}

// Trials visits trials below the number before (0: from the newest), newest
// first; read decodes what lists show of one.
func (s *Store) Trials(
	ctx context.Context,
	before uint,
	limit int,
	visit func(t Trial, read func(any) error) error,
) error {
	var rows []trialRow
	q := s.read.WithContext(ctx).Omit("body").Order("number DESC").Limit(limit)
	if before > 0 {
		q = q.Where("number < ?", before)
	}
	if err := q.Find(&rows).Error; err != nil {
		return err
	}
	for _, r := range rows {
		read := func(into any) error { return decode(r.Head, into, "trial %d", r.Number) }
		if err := visit(r.trial(), read); err != nil {
			return err
		}
	}
	return nil
}

// Trial reads all of a trial; ErrNotFound if there is none. Of a trial whose end
// was never recorded, into stays as it is.
func (s *Store) Trial(ctx context.Context, number uint, into any) (Trial, error) {
	var rows []trialRow
	if err := s.read.WithContext(ctx).Where("number = ?", number).Limit(1).Find(&rows).Error; err != nil {
		return Trial{}, err
	}
	if len(rows) == 0 {
		return Trial{}, ErrNotFound
	}
	if len(rows[0].Body) > 0 {
		if err := unzip(rows[0].Body, into); err != nil {
			return rows[0].trial(), fmt.Errorf("trial %d cannot be read: %w", number, err)
		}
	}
	return rows[0].trial(), nil
}

// TrialsBetween lists the trials that ran between two times; running is the state
// of those that still run.
func (s *Store) TrialsBetween(ctx context.Context, running string, from, to time.Time) ([]Trial, error) {
	var rows []trialRow
	err := s.read.WithContext(ctx).Omit("body", "head").
		Where("began < ? AND (began >= ? OR ended > ? OR state = ?)", to.UTC(), from.UTC(), from.UTC(), running).
		Order("number").Limit(100).Find(&rows).Error
	out := make([]Trial, len(rows))
	for i := range rows {
		out[i] = rows[i].trial()
	}
	return out, err
}
