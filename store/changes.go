package store

import (
	"strings"
	"time"

	"gorm.io/gorm"
)

// Change is one write. All of them are in the files changes*.go: nothing else writes to
// the database once its schema is up to date.
type Change interface{ write(tx *gorm.DB) error }

// allChanges is every kind of change.
var allChanges = []Change{
	AddRevision{}, SaveChecked{}, DeleteChecked{}, SaveDraft{}, DeleteDraft{},
	AddActivity{},
	AddDrill{}, StopDrill{},
	AddTelemetry{}, ReplaceTelemetry{}, PruneTelemetry{}, DeleteSeries{},
	SaveEffect{},
	AddTrial{}, EndTrial{}, InterruptTrials{},
	SaveRelease{}, AddOverlay{}, AddJudgements{}, AddReleaseEvents{}, AddNotices{}, UpdateNotices{},
	AddAccessToken{}, DeleteAccessToken{}, AddSession{}, DeleteSessions{}, UsedCredentials{},
	AddJoinToken{}, UseJoinToken{}, DeleteJoinToken{}, SaveMember{}, PruneMembers{},
	AddAccessSeen{}, PruneAccessSeen{},
	SaveFollow{}, DeleteFollow{}, SaveProposal{},
	SaveDrain{}, DeleteDrain{}, SaveUpgrade{},
	DeleteOld{}, probe{},
}

// batchRows is how many rows one INSERT holds: SQLite bounds the values of a
// statement.
const batchRows = 200

// insert adds rows; none are no error.
func insert[T any](tx *gorm.DB, rows []T) error {
	if len(rows) == 0 {
		return nil
	}
	return tx.CreateInBatches(rows, batchRows).Error
}

// AddRevision adds a revision under its number, which must be new. A revision
// without text names the one whose text it has as Base.
type AddRevision struct{ Revision }

func (c AddRevision) write(tx *gorm.DB) error {
	row := revisionRow{
		Number:  c.Number,
		Kind:    c.Kind,
		Bundle:  c.Bundle,
		Author:  c.Author,
		Message: c.Message,
		At:      c.At.UTC(),
		Base:    c.Base,
		Commit:  c.Commit,
	}
	if c.Base == 0 {
		text, err := encode(c.Bundles)
		if err != nil {
			return err
		}
		row.Bundles = text
	}
	if c.Touched != nil {
		text, err := encode(c.Touched)
		if err != nil {
			return err
		}
		row.Touched = text
	}
	return tx.Create(&row).Error
}

// SaveChecked replaces the files of a bundle that were last checked.
type SaveChecked struct{ Checked }

func (c SaveChecked) write(tx *gorm.DB) error {
	text, err := encode(c.Files)
	if err != nil {
		return err
	}
	return tx.Save(&checkedRow{
		Bundle:   c.Bundle,
		Files:    text,
		By:       c.By,
		At:       c.At.UTC(),
		Mistakes: c.Mistakes,
	}).Error
}

// DeleteChecked forgets the files of a bundle that were last checked; without a bundle
// those of all.
type DeleteChecked struct{ Bundle string }

func (c DeleteChecked) write(tx *gorm.DB) error {
	return tx.Where("? IN ('', bundle)", c.Bundle).Delete(&checkedRow{}).Error
}

// SaveDraft saves a draft in place of the version before its own; version 1 is the
// first. It fails with ErrDraftChanged when another version is there.
type SaveDraft struct{ Draft }

func (c SaveDraft) write(tx *gorm.DB) error {
	text, err := encode(c.Files)
	if err != nil {
		return err
	}
	row := draftRow{
		Bundle:  c.Bundle,
		By:      c.By,
		Files:   text,
		Base:    c.Base,
		Version: c.Version,
		At:      c.At.UTC(),
	}
	if c.Version == 1 {
		err := tx.Create(&row).Error
		if isDuplicate(err) {
			return ErrDraftChanged
		}
		return err
	}
	done := tx.Model(&draftRow{}).
		Where("bundle = ? AND by = ? AND version = ?", c.Bundle, c.By, c.Version-1).
		Select("*").
		Updates(&row)
	if done.Error == nil && done.RowsAffected == 0 {
		return ErrDraftChanged
	}
	return done.Error
}

// DeleteDraft deletes a draft, if it has a version (0: whichever it has). One that is not
// there is no error; one of another version is ErrDraftChanged.
type DeleteDraft struct {
	Bundle, By string
	Version    uint
}

func (c DeleteDraft) write(tx *gorm.DB) error {
	done := tx.Where("bundle = ? AND by = ? AND ? IN (0, version)", c.Bundle, c.By, c.Version).Delete(&draftRow{})
	if done.Error != nil || done.RowsAffected > 0 {
		return done.Error
	}
	var left int64
	err := tx.Model(&draftRow{}).Where("bundle = ? AND by = ?", c.Bundle, c.By).Count(&left).Error
	if err == nil && left > 0 {
		err = ErrDraftChanged
	}
	return err
}

// AddActivity adds to the activity log, in the order given, and chains the entries to
// those before them.
type AddActivity []Activity

func (c AddActivity) write(tx *gorm.DB) error {
	if len(c) == 0 {
		return nil
	}
	var newest struct {
		Number uint
		Hash   string
	}
	err := tx.Raw("SELECT COALESCE(MAX(seq), 0) AS number, COALESCE((SELECT hash FROM activity ORDER BY number DESC " +
		"LIMIT 1), '') AS hash FROM sqlite_sequence WHERE name = 'activity'").Scan(&newest).Error
	if err != nil {
		return err
	}
	rows := make([]activityRow, len(c))
	for i, a := range c {
		a.Number, a.At, a.Prior = newest.Number+1, a.At.UTC(), newest.Hash
		a.Hash = a.Link()
		rows[i] = activityRow(a)
		newest.Number, newest.Hash = a.Number, a.Hash
	}
	return insert(tx, rows)
}

// AddDrill adds a drill under its number, which must be new.
type AddDrill struct{ Drill }

func (c AddDrill) write(tx *gorm.DB) error {
	text, err := encode(c.Spec)
	if err != nil {
		return err
	}
	return tx.Create(&drillRow{
		Number:  c.Number,
		By:      c.By,
		Cohort:  c.When,
		Began:   c.Began.UTC(),
		Ends:    c.Ends.UTC(),
		Stopped: c.Stopped.UTC(),
		Spec:    text,
	}).Error
}

// StopDrill records that a drill was stopped before its end.
type StopDrill struct {
	Number uint
	At     time.Time
}

func (c StopDrill) write(tx *gorm.DB) error {
	return tx.Model(&drillRow{Number: c.Number}).Update("stopped", c.At.UTC()).Error
}

// DeleteOld deletes records that Store.Old found, as far as they may still go.
type DeleteOld struct {
	Kind   Kept
	Before time.Time
	Rows   []int64
}

func (c DeleteOld) named() map[string]any {
	return map[string]any{"before": c.Before.UTC(), "rows": c.Rows}
}

func (c DeleteOld) write(tx *gorm.DB) error {
	o := expiring[c.Kind]
	statements := []string{"DELETE FROM " + o.table + " WHERE rowid IN @rows AND (" + o.where + ")"}
	for _, p := range o.parts {
		statements = append(
			statements,
			"DELETE FROM "+p.table+" WHERE "+p.column+" IN @rows AND "+p.column+" NOT IN (SELECT number FROM "+o.table+")",
		)
	}
	if c.Kind == KeptReleases {
		statements = append(statements, "DELETE FROM overlays WHERE release NOT IN (SELECT number FROM releases) "+
			"AND revision < (SELECT MIN(number) FROM revisions)")
	}
	for _, text := range statements {
		var args []any
		if strings.Contains(text, "@") {
			args = append(args, c.named())
		}
		if err := tx.Exec(text, args...).Error; err != nil {
			return err
		}
	}
	return nil
}

// probe writes what is there already, to see whether the disk takes it.
type probe struct{}

func (c probe) write(tx *gorm.DB) error { return tx.Exec("UPDATE mesh SET id = id").Error }
