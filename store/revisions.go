package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"nightjar/core/rules"
)

// Bundles is the text of every bundle's files, by the bundle's name.
type Bundles map[string][]rules.File

// Revision is one numbered, immutable published state of all bundles.
type Revision struct {
	Number  uint
	Kind    string // publish, split, restore, release or commit
	Bundle  string // the bundle that this revision changed; empty: all
	Commit  string // id of the commit that it is of; empty: of none
	Author  string
	Message string
	At      time.Time
	Bundles Bundles // nil in lists
	Base    uint    // revision whose text this one has; 0: its own
	// Touched are the services and gateways for whom something else holds since then (see
	// rules.Touched); nil: all.
	Touched []string

	Overlays []Overlay // of the releases that were running; nil in lists
}

// Overlay is what a release changes in the rules from a revision on.
type Overlay struct {
	Release, Revision uint
	Text              string // JSON
}

// Checked is the files of a bundle that somebody had checked last.
type Checked struct {
	Bundle   string
	Files    []rules.File
	By       string
	At       time.Time
	Mistakes int
}

// Draft is the rule files of a bundle that somebody is editing.
type Draft struct {
	Bundle  string
	By      string
	Files   []rules.File // nil in lists
	Base    uint         // revision that the edit began from
	Version uint         // rises with every change, from 1
	At      time.Time
}

// ErrDraftChanged means that the draft has another version than expected.
var ErrDraftChanged = errors.New("the draft was changed meanwhile")

type revisionRow struct {
	Number  uint `gorm:"primaryKey;autoIncrement"`
	Kind    string
	Bundle  string
	Author  string
	Message string
	At      time.Time
	Bundles string // JSON; empty with a base
	Base    uint
	Touched string // JSON; empty: all
	Commit  string `gorm:"column:commit_id"`
}

func (revisionRow) TableName() string { return "revisions" }

func (row revisionRow) head() Revision {
	r := Revision{
		Number:  row.Number,
		Kind:    row.Kind,
		Bundle:  row.Bundle,
		Author:  row.Author,
		Message: row.Message,
		At:      row.At.UTC(),
		Base:    row.Base,
		Commit:  row.Commit,
	}
	if row.Touched != "" && json.Unmarshal([]byte(row.Touched), &r.Touched) != nil {
		r.Touched = nil
	}
	return r
}

func heads(rows []revisionRow) []Revision {
	out := make([]Revision, len(rows))
	for i, row := range rows {
		out[i] = row.head()
	}
	return out
}

// overlayRow is what a release changes in the rules from a revision on, until its
// next row.
type overlayRow struct {
	Release  uint `gorm:"primaryKey;autoIncrement:false"`
	Revision uint `gorm:"primaryKey;autoIncrement:false"`
	Overlay  string
}

func (overlayRow) TableName() string { return "overlays" }

type checkedRow struct {
	Bundle   string `gorm:"primaryKey"`
	Files    string // JSON
	By       string
	At       time.Time
	Mistakes int
}

func (checkedRow) TableName() string { return "checked" }

type draftRow struct {
	Bundle  string `gorm:"primaryKey"`
	By      string `gorm:"primaryKey"`
	Files   string // JSON
	Base    uint
	Version uint
	At      time.Time
}

func (draftRow) TableName() string { return "drafts" }

func (row draftRow) head() Draft {
	return Draft{
		Bundle:  row.Bundle,
		By:      row.By,
		Base:    row.Base,
		Version: row.Version,
		At:      row.At.UTC(),
	}
}

// Revision returns one revision with the text of its files and its overlays;
// ErrNotFound if there is none. Number 0 is the newest.
func (s *Store) Revision(ctx context.Context, number uint) (Revision, error) {
	var rows []revisionRow
	db := s.read.WithContext(ctx)
	q := db.Order("number DESC").Limit(1)
	if number > 0 {
		q = q.Where("number = ?", number)
	}
	if err := q.Find(&rows).Error; err != nil {
		return Revision{}, err
	}
	if len(rows) == 0 {
		return Revision{}, ErrNotFound
	}
	r, text := rows[0].head(), rows[0].Bundles
	if r.Base > 0 {
		if err := db.Model(&revisionRow{}).Where("number = ?", r.Base).Pluck("bundles", &text).Error; err != nil {
			return r, err
		}
	}
	if err := decode(text, &r.Bundles, "revision %d", r.Number); err != nil {
		return r, err
	}
	// Of each release, the newest overlay up to this revision.
	var overlays []overlayRow
	err := db.Raw(`SELECT release, revision, overlay FROM overlays o WHERE revision <= ? AND overlay != ''
		AND NOT EXISTS (SELECT 1 FROM overlays n
			WHERE n.release = o.release AND n.revision > o.revision AND n.revision <= ?)
		ORDER BY release`, r.Number, r.Number).Scan(&overlays).Error
	for _, o := range overlays {
		r.Overlays = append(r.Overlays, Overlay{o.Release, o.Revision, o.Overlay})
	}
	return r, err
}

// Revisions lists revisions without their text, newest first, from below the
// number before (0: from the newest).
func (s *Store) Revisions(ctx context.Context, before uint, limit int) ([]Revision, error) {
	var rows []revisionRow
	q := s.read.WithContext(ctx).Omit("bundles").Order("number DESC").Limit(limit)
	if before > 0 {
		q = q.Where("number < ?", before)
	}
	err := q.Find(&rows).Error
	return heads(rows), err
}

// RevisionsBetween lists revisions from from to before to without their text, newest
// first.
func (s *Store) RevisionsBetween(ctx context.Context, from, to time.Time, limit int) ([]Revision, error) {
	var rows []revisionRow
	err := s.read.WithContext(ctx).Omit("bundles").Where("at >= ? AND at < ?", from.UTC(), to.UTC()).
		Order("number DESC").Limit(limit).Find(&rows).Error
	return heads(rows), err
}

// Around finds the revisions before and after one, or around a time when number is
// 0, without their text. A revision with number 0 means that there is none.
func (s *Store) Around(ctx context.Context, number uint, at time.Time) (before, after Revision, err error) {
	below, above, value := "number < ?", "number > ?", any(number)
	if number == 0 {
		below, above, value = "at <= ?", "at > ?", at.UTC()
	}
	find := func(where, order string, into *Revision) error {
		var rows []revisionRow
		err := s.read.WithContext(ctx).Omit("bundles").Where(where, value).Order(order).Limit(1).Find(&rows).Error
		if err == nil && len(rows) > 0 {
			*into = rows[0].head()
		}
		return err
	}
	if err := find(below, "number DESC", &before); err != nil {
		return before, after, err
	}
	return before, after, find(above, "number", &after)
}

// CheckedFiles lists the last checked files of every bundle.
func (s *Store) CheckedFiles(ctx context.Context) ([]Checked, error) {
	var rows []checkedRow
	if err := s.read.WithContext(ctx).Order("bundle").Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]Checked, len(rows))
	for i, row := range rows {
		out[i] = Checked{Bundle: row.Bundle, By: row.By, At: row.At.UTC(), Mistakes: row.Mistakes}
		if err := decode(row.Files, &out[i].Files, "the checked files of bundle %s", row.Bundle); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Draft returns one draft; ErrNotFound if there is none.
func (s *Store) Draft(ctx context.Context, bundle, by string) (Draft, error) {
	var rows []draftRow
	err := s.read.WithContext(ctx).Where("bundle = ? AND by = ?", bundle, by).Limit(1).Find(&rows).Error
	if err != nil {
		return Draft{}, err
	}
	if len(rows) == 0 {
		return Draft{}, ErrNotFound
	}
	d := rows[0].head()
	return d, decode(rows[0].Files, &d.Files, "the draft of bundle %s by %s", bundle, by)
}

// Drafts lists all drafts without their files, by bundle and author.
func (s *Store) Drafts(ctx context.Context) ([]Draft, error) {
	var rows []draftRow
	err := s.read.WithContext(ctx).Omit("files").Order("bundle, by").Find(&rows).Error
	out := make([]Draft, len(rows))
	for i, row := range rows {
		out[i] = row.head()
	}
	return out, err
}
