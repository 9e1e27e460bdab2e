package store

import (
	"context"
	"encoding/json"
	"time"
)

// Release is what every list needs of a release.
type Release struct {
	Number uint
	Name   string
	State  string
	IsOver bool
	Began  time.Time
}

type releaseRow struct {
	Number uint `gorm:"primaryKey;autoIncrement"`
	Name   string
	State  string
	Over   bool
	Began  time.Time
	Run    string // JSON
}

func (releaseRow) TableName() string { return "releases" }

type judgementRow struct {
	Number    uint `gorm:"primaryKey;autoIncrement"`
	Release   uint
	Judgement string // JSON
}

func (judgementRow) TableName() string { return "judgements" }

type eventRow struct {
	Number  uint `gorm:"primaryKey;autoIncrement"`
	Release uint
	Event   string // JSON
}

func (eventRow) TableName() string { return "release_events" }

// ReleaseQuery selects releases.
type ReleaseQuery struct {
	Name      string // empty: any
	Before    uint   // only numbers below this one; 0: all
	Limit     int
	OnlyGoing bool // only those that have not ended
}

// Releases visits releases, newest first; read decodes the record of one.
func (s *Store) Releases(ctx context.Context, q ReleaseQuery, visit func(r Release, read func(any) error) error) error {
	db := s.read.WithContext(ctx).Order("number DESC").Limit(q.Limit)
	if q.Before > 0 {
		db = db.Where("number < ?", q.Before)
	}
	if q.Name != "" {
		db = db.Where("name = ?", q.Name)
	}
	if q.OnlyGoing {
		db = db.Where("over = 0")
	}
	var rows []releaseRow
	if err := db.Find(&rows).Error; err != nil {
		return err
	}
	for _, row := range rows {
		r := Release{
			Number: row.Number,
			Name:   row.Name,
			State:  row.State,
			IsOver: row.Over,
			Began:  row.Began.UTC(),
		}
		read := func(into any) error { return decode(row.Run, into, "release %d", row.Number) }
		if err := visit(r, read); err != nil {
			return err
		}
	}
	return nil
}

// Judgements visits the newest judgements of a release, in order of time.
func (s *Store) Judgements(ctx context.Context, release uint, limit int, visit func(read func(any) error) error) error {
	var texts []string
	err := s.read.WithContext(ctx).Raw(`SELECT judgement FROM
		(SELECT number, judgement FROM judgements WHERE release = ? ORDER BY number DESC LIMIT ?) ORDER BY number`,
		release, limit).Scan(&texts).Error
	return each(texts, err, visit)
}

// ReleaseEvents visits the newest events of a release, in order of time.
func (s *Store) ReleaseEvents(
	ctx context.Context,
	release uint,
	limit int,
	visit func(read func(any) error) error,
) error {
	var texts []string
	err := s.read.WithContext(ctx).Raw(`SELECT event FROM
		(SELECT number, event FROM release_events WHERE release = ? ORDER BY number DESC LIMIT ?) ORDER BY number`,
		release, limit).Scan(&texts).Error
	return each(texts, err, visit)
}

func each(texts []string, err error, visit func(read func(any) error) error) error {
	for _, text := range texts {
		if err == nil {
			err = visit(func(into any) error { return json.Unmarshal([]byte(text), into) })
		}
	}
	return err
}

// States of a Notice.
const (
	NoticeWaiting   = "waiting"
	NoticeDelivered = "delivered"
	NoticeGivenUp   = "given up"
)

// Notice is an event that a receiver is to get.
type Notice struct {
	Number   uint
	Release  uint
	URL      string
	IsBinary bool   // the event's attributes go in header fields
	Event    string // CloudEvent, as JSON
	Attempts int
	Due      time.Time
	State    string
	Response string // result of the last attempt
}

type noticeRow struct {
	Number   uint `gorm:"primaryKey;autoIncrement"`
	Release  uint
	URL      string `gorm:"column:url"`
	IsBinary bool   `gorm:"column:binary"`
	Event    string
	Attempts int `gorm:"column:tries"`
	Due      time.Time
	State    string
	Response string `gorm:"column:answer"`
}

func (noticeRow) TableName() string { return "notices" }

func notices(rows []noticeRow) []Notice {
	out := make([]Notice, len(rows))
	for i, row := range rows {
		out[i] = Notice(row)
		out[i].Due = row.Due.UTC()
	}
	return out
}

// DueNotices lists the notices that are due: of each receiver the oldest, at most
// perReceiver of them. A receiver that has to wait for an older one gets none.
func (s *Store) DueNotices(ctx context.Context, now time.Time, perReceiver int) ([]Notice, error) {
	var rows []noticeRow
	err := s.read.WithContext(ctx).Raw(`SELECT * FROM
		(SELECT *, row_number() OVER in_order AS nth, max(due) OVER in_order AS latest
			FROM notices WHERE state = ? WINDOW in_order AS (PARTITION BY url ORDER BY number))
		WHERE nth <= ? AND latest <= ? ORDER BY number`, NoticeWaiting, perReceiver, now.UTC()).Scan(&rows).Error
	return notices(rows), err
}

// NoticesOf lists the notices of a release, newest first.
func (s *Store) NoticesOf(ctx context.Context, release uint, limit int) ([]Notice, error) {
	var rows []noticeRow
	err := s.read.WithContext(ctx).Where("release = ?", release).Order("number DESC").Limit(limit).Find(&rows).Error
	return notices(rows), err
}

// WaitingNotices is how many notices are still to be delivered.
func (s *Store) WaitingNotices(ctx context.Context) (n int64, err error) {
	err = s.read.WithContext(ctx).Model(&noticeRow{}).Where("state = ?", NoticeWaiting).Count(&n).Error
	return n, err
}
