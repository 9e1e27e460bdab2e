package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"gorm.io/gorm"
)

// ReleaseHead is what every list needs of a release.
type ReleaseHead struct {
	Number uint
	Name   string
	State  string
	Over   bool
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

// overlayRow is what a release changes in the rules from a revision on.
type overlayRow struct {
	Release  uint `gorm:"primaryKey;autoIncrement:false"`
	Revision uint `gorm:"primaryKey;autoIncrement:false"`
	Overlay  string
}

func (overlayRow) TableName() string { return "overlays" }

type judgementRow struct {
	Number    uint `gorm:"primaryKey;autoIncrement"`
	Release   uint
	Judgement string
}

func (judgementRow) TableName() string { return "judgements" }

type eventRow struct {
	Number  uint `gorm:"primaryKey;autoIncrement"`
	Release uint
	Event   string
}

func (eventRow) TableName() string { return "release_events" }

// States of a Notice.
const (
	NoticeWaiting   = "waiting"
	NoticeDelivered = "delivered"
	NoticeGivenUp   = "given up"
)

// Notice is an event that a receiver is to be told.
type Notice struct {
	Number  uint `gorm:"primaryKey;autoIncrement"`
	Release uint
	URL     string `gorm:"column:url"`
	Binary  bool
	Event   string // CloudEvent, as JSON
	Tries   int
	Due     time.Time
	State   string
	Answer  string // what came of the last try
}

// TableName is for GORM.
func (Notice) TableName() string { return "notices" }

// ReleaseChange is what is stored of a release in one go.
type ReleaseChange struct {
	Release  uint      // 0: it is new, and is given a number
	Revision *Revision // that puts its overlay in force; it is given a number. nil: none
	Overlay  *string   // from that revision, or else from the one before it in the same go, on; nil: as it was
	// Rest is called with both numbers, and tells what else is stored.
	Rest func(release, revision uint) (ReleaseRest, error)
}

// ReleaseRest is the record of a release, and what is new of it.
type ReleaseRest struct {
	ReleaseHead
	Run                any
	Judgements, Events []any
	Notices            []Notice
}

// ChangeReleases stores a revision, if there is one, and then changes of
// releases in their order: all of it or nothing. It sets the numbers. Revisions
// without text have that of the last one with text before them, or else of base.
func (s *Store) ChangeReleases(ctx context.Context, base uint, first *Revision, changes []ReleaseChange) error {
	return s.write.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var newest uint
		add := func(r *Revision) error {
			if r.Bundles == nil {
				r.Base = base
			}
			with, err := addRevision(tx, *r)
			if r.Number, newest = with.Number, with.Number; r.Base == 0 {
				base = r.Number
			}
			return err
		}
		if first != nil {
			if err := add(first); err != nil {
				return err
			}
		}
		var overlays []overlayRow
		var judgements []judgementRow
		var events []eventRow
		var notices []Notice
		for i := range changes {
			c := &changes[i]
			if c.Revision != nil {
				if err := add(c.Revision); err != nil {
					return err
				}
			}
			if c.Release == 0 {
				row := releaseRow{}
				if err := tx.Create(&row).Error; err != nil {
					return err
				}
				c.Release = row.Number
			}
			rest, err := c.Rest(c.Release, newest)
			if err != nil {
				return err
			}
			if c.Overlay != nil {
				overlays = append(overlays, overlayRow{c.Release, newest, *c.Overlay})
			}
			run, err := json.Marshal(rest.Run)
			if err != nil {
				return err
			}
			row := releaseRow{Number: c.Release, Name: rest.Name, State: rest.State, Over: rest.Over, Began: rest.Began.UTC(), Run: string(run)}
			if err := tx.Save(&row).Error; err != nil {
				return err
			}
			for _, j := range rest.Judgements {
				text, err := json.Marshal(j)
				if err != nil {
					return err
				}
				judgements = append(judgements, judgementRow{Release: c.Release, Judgement: string(text)})
			}
			for _, e := range rest.Events {
				text, err := json.Marshal(e)
				if err != nil {
					return err
				}
				events = append(events, eventRow{Release: c.Release, Event: string(text)})
			}
			notices = append(notices, rest.Notices...)
		}
		for _, list := range []struct {
			n    int
			rows any
		}{{len(overlays), overlays}, {len(judgements), judgements}, {len(events), events}, {len(notices), notices}} {
			if list.n > 0 {
				if err := tx.CreateInBatches(list.rows, 200).Error; err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// overlaysAt reads which overlays held at a revision.
func (s *Store) overlaysAt(ctx context.Context, r *Revision) error {
	return s.read.WithContext(ctx).Raw(`SELECT overlay FROM overlays o WHERE revision <= ? AND overlay != ''
		AND NOT EXISTS (SELECT 1 FROM overlays n WHERE n.release = o.release AND n.revision > o.revision AND n.revision <= ?) ORDER BY release`, r.Number, r.Number).Scan(&r.Overlays).Error
}

// Releases visits releases below the number before (0: from the newest), newest
// first; all those that are not over, with running. read reads its record.
func (s *Store) Releases(ctx context.Context, name string, before uint, limit int, running bool, visit func(h ReleaseHead, read func(any) error) error) error {
	q := s.read.WithContext(ctx).Order("number DESC").Limit(limit)
	if before > 0 {
		q = q.Where("number < ?", before)
	}
	if name != "" {
		q = q.Where("name = ?", name)
	}
	if running {
		q = q.Where("over = 0")
	}
	var rows []releaseRow
	if err := q.Find(&rows).Error; err != nil {
		return err
	}
	for _, r := range rows {
		h := ReleaseHead{Number: r.Number, Name: r.Name, State: r.State, Over: r.Over, Began: r.Began.UTC()}
		if err := visit(h, func(into any) error { return json.Unmarshal([]byte(r.Run), into) }); err != nil {
			return fmt.Errorf("release %d cannot be read: %w", r.Number, err)
		}
	}
	return nil
}

// Judgements visits the newest judgements of a release, in order of time.
func (s *Store) Judgements(ctx context.Context, release uint, limit int, visit func(read func(any) error) error) error {
	var texts []string
	err := s.read.WithContext(ctx).Raw("SELECT judgement FROM (SELECT number, judgement FROM judgements WHERE release = ? ORDER BY number DESC LIMIT ?) ORDER BY number", release, limit).Scan(&texts).Error
	return each(texts, err, visit)
}

// ReleaseEvents visits the newest events of a release, in order of time.
func (s *Store) ReleaseEvents(ctx context.Context, release uint, limit int, visit func(read func(any) error) error) error {
	var texts []string
	err := s.read.WithContext(ctx).Raw("SELECT event FROM (SELECT number, event FROM release_events WHERE release = ? ORDER BY number DESC LIMIT ?) ORDER BY number", release, limit).Scan(&texts).Error
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

// DueNotices lists the notices that are due, those of each receiver in the order
// in which they were made, and at most so many of each.
func (s *Store) DueNotices(ctx context.Context, now time.Time, each int) ([]Notice, error) {
	var out []Notice
	err := s.read.WithContext(ctx).Raw(`SELECT * FROM (SELECT *, row_number() OVER (PARTITION BY url ORDER BY number) AS nth FROM notices WHERE state = ? AND due <= ?)
		WHERE nth <= ? ORDER BY number`, NoticeWaiting, now.UTC(), each).Scan(&out).Error
	return out, err
}

// NoticesOf lists the notices of a release, newest first.
func (s *Store) NoticesOf(ctx context.Context, release uint, limit int) ([]Notice, error) {
	var out []Notice
	err := s.read.WithContext(ctx).Where("release = ?", release).Order("number DESC").Limit(limit).Find(&out).Error
	return out, err
}

// WaitingNotices is how many notices are to be delivered yet.
func (s *Store) WaitingNotices(ctx context.Context) (n int64, err error) {
	err = s.read.WithContext(ctx).Model(&Notice{}).Where("state = ?", NoticeWaiting).Count(&n).Error
	return n, err
}

// UpdateNotices stores what came of tries to deliver.
func (s *Store) UpdateNotices(ctx context.Context, list []Notice) error {
	return s.write.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		for _, n := range list {
			if err := tx.Model(&Notice{Number: n.Number}).Updates(map[string]any{"tries": n.Tries, "due": n.Due.UTC(), "state": n.State, "answer": n.Answer}).Error; err != nil {
				return err
			}
		}
		return nil
	})
}
