package store

import (
	"errors"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"nightjar/telemetry"
)

// Change is one write. All of them are below: nothing else writes to the
// database once its schema is up to date.
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
	AddJoinToken{}, UseJoinToken{}, DeleteJoinToken{}, SaveMember{}, PruneMembers{},
	AddAccessSeen{}, PruneAccessSeen{},
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

// AddActivity adds to the activity log, in the order given.
type AddActivity []Activity

func (c AddActivity) write(tx *gorm.DB) error {
	rows := make([]activityRow, len(c))
	for i, a := range c {
		a.Number, a.At = 0, a.At.UTC()
		rows[i] = activityRow(a)
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

// AddTelemetry adds a batch of telemetry that was complete at the second At. A batch that
// is there already is added no second time: whoever could not see whether it was written
// writes it again.
type AddTelemetry struct {
	*telemetry.Batch
	At int64
}

func (c AddTelemetry) write(tx *gorm.DB) error {
	done := tx.Clauses(clause.OnConflict{
		Columns:   []clause.Column{{Name: "nonce"}},
		DoUpdates: clause.AssignmentColumns([]string{"sequence", "at"}),
		Where:     clause.Where{Exprs: []clause.Expression{clause.Expr{SQL: "excluded.sequence > telemetry_seen.sequence"}}},
	}).Create(&seenRow{c.Writer, c.Number, c.At})
	if done.Error != nil || done.RowsAffected == 0 {
		return done.Error
	}
	for _, n := range c.Series {
		names, err := encode(n.Names)
		if err != nil {
			return err
		}
		if err := tx.Save(&seriesRow{n.ID, names}).Error; err != nil {
			return err
		}
	}
	for _, slot := range c.Slots {
		row := telemetryRow{At: slot.At, Seconds: telemetry.Step, Counts: deflate(slot.Sealed)}
		if err := tx.Create(&row).Error; err != nil {
			return err
		}
	}
	seen := make([]seenRow, 0, len(c.Seen))
	for nonce, sequence := range c.Seen {
		seen = append(seen, seenRow{nonce, sequence, c.At})
	}
	return insert(tx.Clauses(clause.OnConflict{UpdateAll: true}), seen)
}

// ErrTelemetryChanged means that rows are not what they were when they were read.
var ErrTelemetryChanged = errors.New("the telemetry was changed meanwhile")

// ReplaceTelemetry replaces rows by one row that holds what they held together. It fails
// with ErrTelemetryChanged when one of them is not there any more.
type ReplaceTelemetry struct {
	Rows    []uint // numbers of the rows
	At      int64  // start of the time that the new row covers, in seconds since 1970
	Seconds int64  // length of that time
	Sealed  []byte // see telemetry.Merge
}

func (c ReplaceTelemetry) write(tx *gorm.DB) error {
	done := tx.Where("at >= ? AND at < ?", c.At, c.At+c.Seconds).Delete(&telemetryRow{}, c.Rows)
	if done.Error == nil && done.RowsAffected != int64(len(c.Rows)) {
		return ErrTelemetryChanged
	}
	if done.Error != nil {
		return done.Error
	}
	return tx.Create(&telemetryRow{At: c.At, Seconds: c.Seconds, Counts: deflate(c.Sealed)}).Error
}

// PruneTelemetry deletes telemetry before a second, and what is known of processes that
// have been silent for long, or are too many, at the second Now.
type PruneTelemetry struct{ Before, Now int64 }

func (c PruneTelemetry) write(tx *gorm.DB) error {
	if err := tx.Where("at < ?", c.Before).Delete(&telemetryRow{}).Error; err != nil {
		return err
	}
	return tx.Where("at < ? OR nonce IN (SELECT nonce FROM telemetry_seen ORDER BY at DESC LIMIT -1 OFFSET ?)",
		c.Now-seenTime, telemetry.MaxSeen).Delete(&seenRow{}).Error
}

// DeleteSeries deletes the names of series. The one with the highest number stays, so
// that no number is used a second time.
type DeleteSeries []uint32

func (c DeleteSeries) write(tx *gorm.DB) error {
	for ids := []uint32(c); len(ids) > 0; ids = ids[min(batchRows, len(ids)):] {
		err := tx.Where("id < (SELECT MAX(id) FROM telemetry_series)").
			Delete(&seriesRow{}, ids[:min(batchRows, len(ids))]).Error
		if err != nil {
			return err
		}
	}
	return nil
}

// SaveEffect keeps the effect of a revision.
type SaveEffect struct {
	Revision uint
	Summary  any // what lists show of it
	Effect   any
}

func (c SaveEffect) write(tx *gorm.DB) error {
	text, err := encode(c.Summary)
	if err != nil {
		return err
	}
	body, err := zipped(c.Effect)
	if err != nil {
		return err
	}
	return tx.Save(&effectRow{Revision: c.Revision, Head: text, Body: body}).Error
}

// AddTrial adds a trial that began, under its number, which must be new.
type AddTrial struct{ Trial }

func (c AddTrial) write(tx *gorm.DB) error {
	return tx.Create(
		&trialRow{
			Number: c.Number,
			Name:   c.Name,
			State:  c.State,
			Began:  c.Began.UTC(),
			Head:   "{}",
			Body:   []byte{},
		},
	).Error
}

// EndTrial records the result of a trial.
type EndTrial struct {
	Trial
	Summary any // what lists show of it
	Result  any
}

func (c EndTrial) write(tx *gorm.DB) error {
	text, err := encode(c.Summary)
	if err != nil {
		return err
	}
	body, err := zipped(c.Result)
	if err != nil {
		return err
	}
	return tx.Save(&trialRow{
		Number: c.Number,
		Name:   c.Name,
		State:  c.State,
		Began:  c.Began.UTC(),
		Ended:  c.Ended.UTC(),
		Head:   text,
		Body:   body,
	}).Error
}

// InterruptTrials gives trials of one state, whose end was never recorded, another.
type InterruptTrials struct{ From, To string }

func (c InterruptTrials) write(tx *gorm.DB) error {
	return tx.Model(&trialRow{}).Where("state = ?", c.From).Update("state", c.To).Error
}

// SaveRelease saves the record of a release, in place of the one before.
type SaveRelease struct {
	Release
	Run any
}

func (c SaveRelease) write(tx *gorm.DB) error {
	text, err := encode(c.Run)
	if err != nil {
		return err
	}
	return tx.Save(
		&releaseRow{
			Number: c.Number,
			Name:   c.Name,
			State:  c.State,
			Over:   c.IsOver,
			Began:  c.Began.UTC(),
			Run:    text,
		},
	).Error
}

// AddOverlay records what a release changes in the rules from a revision on;
// empty: nothing any more.
type AddOverlay struct{ Overlay }

func (c AddOverlay) write(tx *gorm.DB) error {
	row := overlayRow{Release: c.Release, Revision: c.Revision, Overlay: c.Text}
	return tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&row).Error
}

// AddJudgements adds judgements of a release.
type AddJudgements struct {
	Release    uint
	Judgements []any
}

func (c AddJudgements) write(tx *gorm.DB) error {
	rows := make([]judgementRow, len(c.Judgements))
	for i, j := range c.Judgements {
		text, err := encode(j)
		if err != nil {
			return err
		}
		rows[i] = judgementRow{Release: c.Release, Judgement: text}
	}
	return insert(tx, rows)
}

// AddReleaseEvents adds events of a release.
type AddReleaseEvents struct {
	Release uint
	Events  []any
}

func (c AddReleaseEvents) write(tx *gorm.DB) error {
	rows := make([]eventRow, len(c.Events))
	for i, e := range c.Events {
		text, err := encode(e)
		if err != nil {
			return err
		}
		rows[i] = eventRow{Release: c.Release, Event: text}
	}
	return insert(tx, rows)
}

// AddNotices adds notices that receivers are to get.
type AddNotices []Notice

func (c AddNotices) write(tx *gorm.DB) error {
	rows := make([]noticeRow, len(c))
	for i, n := range c {
		n.Number, n.Due = 0, n.Due.UTC()
		rows[i] = noticeRow(n)
	}
	return insert(tx, rows)
}

// UpdateNotices records the results of attempts to deliver notices.
type UpdateNotices []Notice

func (c UpdateNotices) write(tx *gorm.DB) error {
	for _, n := range c {
		values := map[string]any{"tries": n.Attempts, "due": n.Due.UTC(), "state": n.State, "answer": n.Response}
		if err := tx.Model(&noticeRow{Number: n.Number}).Updates(values).Error; err != nil {
			return err
		}
	}
	return nil
}

// AddJoinToken adds a join token.
type AddJoinToken struct{ JoinToken }

func (c AddJoinToken) write(tx *gorm.DB) error {
	return tx.Create(&joinTokenRow{
		ID:        c.ID,
		Hash:      c.Hash,
		Kind:      c.Kind,
		Name:      c.Name,
		Version:   c.Version,
		Site:      c.Site,
		Addresses: strings.Join(c.Addresses, " "),
		Uses:      c.Uses,
		Used:      c.Used,
		Created:   c.Created.UTC(),
		Expires:   c.Expires.UTC(),
		By:        c.By,
	}).Error
}

// ErrTokenSpent means that a join token was used as often as it may be.
var ErrTokenSpent = errors.New("the join token is used up")

// UseJoinToken counts one use of a token. It fails with ErrTokenSpent when there is none
// left.
type UseJoinToken struct{ ID string }

func (c UseJoinToken) write(tx *gorm.DB) error {
	done := tx.Model(&joinTokenRow{}).Where("id = ? AND used < uses", c.ID).Update("used", gorm.Expr("used + 1"))
	if done.Error == nil && done.RowsAffected == 0 {
		return ErrTokenSpent
	}
	return done.Error
}

// DeleteJoinToken deletes a token; one that is not there is no error.
type DeleteJoinToken struct{ ID string }

func (c DeleteJoinToken) write(tx *gorm.DB) error {
	return tx.Where("id = ?", c.ID).Delete(&joinTokenRow{}).Error
}

// SaveMember saves a proxy that has joined, or whose certificate was renewed.
type SaveMember struct{ Member }

func (c SaveMember) write(tx *gorm.DB) error {
	return tx.Save(&memberRow{
		ID:        c.ID,
		Kind:      c.Kind,
		Name:      c.Name,
		Version:   c.Version,
		Site:      c.Site,
		Addresses: strings.Join(c.Addresses, " "),
		Token:     c.Token,
		KeyHash:   c.KeyHash,
		Joined:    c.Joined.UTC(),
		Renewed:   c.Renewed.UTC(),
		Expires:   c.Expires.UTC(),
	}).Error
}

// PruneMembers deletes tokens and proxies whose time ended before a time.
type PruneMembers struct{ Before time.Time }

func (c PruneMembers) write(tx *gorm.DB) error {
	if err := tx.Where("expires < ?", c.Before.UTC()).Delete(&joinTokenRow{}).Error; err != nil {
		return err
	}
	return tx.Where("expires < ?", c.Before.UTC()).Delete(&memberRow{}).Error
}

// AddAccessSeen adds to what was counted between callers and services.
type AddAccessSeen []AccessSeen

func (c AddAccessSeen) write(tx *gorm.DB) error {
	rows := make([]accessSeenRow, len(c))
	for i, a := range c {
		rows[i] = accessSeenRow(a)
		rows[i].Last = a.Last.UTC()
	}
	return insert(tx.Clauses(clause.OnConflict{
		Columns: []clause.Column{
			{Name: "day"},
			{Name: "caller"},
			{Name: "service"},
			{Name: "rule"},
			{Name: "outcome"},
		},
		DoUpdates: clause.Assignments(map[string]any{
			"requests": gorm.Expr("requests + excluded.requests"),
			"last":     gorm.Expr("max(last, excluded.last)"),
		}),
	}), rows)
}

// PruneAccessSeen deletes what was counted before a day.
type PruneAccessSeen struct{ Before string }

func (c PruneAccessSeen) write(tx *gorm.DB) error {
	return tx.Where("day < ?", c.Before).Delete(&accessSeenRow{}).Error
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
	o := olds[c.Kind]
	statements := []string{"DELETE FROM " + o.table + " WHERE rowid IN @rows AND (" + o.where + ")"}
	for _, p := range o.parts {
		statements = append(statements,
			"DELETE FROM "+p.table+" WHERE "+p.column+" IN @rows AND "+p.column+" NOT IN (SELECT number FROM "+o.table+")")
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
