package store

import (
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

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
