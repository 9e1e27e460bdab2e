package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"
)

// TrialHead is what every list needs of a trial.
type TrialHead struct {
	Number uint
	Name   string
	State  string
	Began  time.Time
	Ended  time.Time // zero while it runs, and when no end was stored
}

// trialRow is a trial: what a list shows, and all of it.
type trialRow struct {
	Number uint `gorm:"primaryKey;autoIncrement"`
	Name   string
	State  string
	Began  time.Time
	Ended  time.Time
	Head   string
	Body   []byte // JSON, gzipped
}

func (trialRow) TableName() string { return "trials" }

// AddTrial stores that a trial began, and gives it the next number.
func (s *Store) AddTrial(ctx context.Context, t TrialHead) (TrialHead, error) {
	row := trialRow{Name: t.Name, State: t.State, Began: t.Began.UTC(), Head: "{}", Body: []byte{}}
	err := s.write.WithContext(ctx).Create(&row).Error
	t.Number = row.Number
	return t, err
}

// EndTrial stores what came of a trial: head is what lists show of it.
func (s *Store) EndTrial(ctx context.Context, t TrialHead, head, body any) error {
	text, err := json.Marshal(head)
	if err != nil {
		return err
	}
	b, err := zipped(body)
	if err != nil {
		return err
	}
	return s.write.WithContext(ctx).Save(&trialRow{Number: t.Number, Name: t.Name, State: t.State, Began: t.Began.UTC(), Ended: t.Ended.UTC(), Head: string(text), Body: b}).Error
}

// InterruptTrials marks trials of which no end was stored.
func (s *Store) InterruptTrials(ctx context.Context, running, interrupted string) error {
	return s.write.WithContext(ctx).Model(&trialRow{}).Where("state = ?", running).Updates(map[string]any{"state": interrupted}).Error
}

// Trials visits trials below the number before (0: from the newest), newest
// first; read reads what lists show of one.
func (s *Store) Trials(ctx context.Context, before uint, limit int, visit func(t TrialHead, read func(any) error) error) error {
	var rows []trialRow
	q := s.read.WithContext(ctx).Omit("body").Order("number DESC").Limit(limit)
	if before > 0 {
		q = q.Where("number < ?", before)
	}
	if err := q.Find(&rows).Error; err != nil {
		return err
	}
	for _, r := range rows {
		if err := visit(r.head(), func(into any) error { return json.Unmarshal([]byte(r.Head), into) }); err != nil {
			return err
		}
	}
	return nil
}

func (r *trialRow) head() TrialHead {
	return TrialHead{r.Number, r.Name, r.State, r.Began.UTC(), r.Ended.UTC()}
}

// Trial reads all of a trial; ErrNotFound if there is none. One of which no end
// was stored has only its head.
func (s *Store) Trial(ctx context.Context, number uint, into any) (TrialHead, error) {
	var rows []trialRow
	if err := s.read.WithContext(ctx).Where("number = ?", number).Limit(1).Find(&rows).Error; err != nil {
		return TrialHead{}, err
	}
	if len(rows) == 0 {
		return TrialHead{}, ErrNotFound
	}
	if len(rows[0].Body) > 0 {
		if err := unzip(rows[0].Body, into); err != nil {
			return rows[0].head(), fmt.Errorf("trial %d cannot be read: %w", number, err)
		}
	}
	return rows[0].head(), nil
}

// TrialsBetween lists the trials that ran in a time; running is the state of those
// that still do.
func (s *Store) TrialsBetween(ctx context.Context, running string, from, to time.Time) ([]TrialHead, error) {
	var rows []trialRow
	err := s.read.WithContext(ctx).Omit("body", "head").Where("began < ? AND (began >= ? OR ended > ? OR state = ?)", to.UTC(), from.UTC(), from.UTC(), running).Order("number").Limit(100).Find(&rows).Error
	out := make([]TrialHead, len(rows))
	for i := range rows {
		out[i] = rows[i].head()
	}
	return out, err
}
