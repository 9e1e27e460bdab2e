package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"

	"nightjar/core/rules"
)

// Draft is the rule files of a bundle that somebody is working on.
type Draft struct {
	Bundle  string
	By      string
	Files   []rules.File // nil in lists
	Base    uint         // revision that the work began from
	Version uint         // rises with every change, from 1
	At      time.Time
}

// ErrDraftChanged means that the draft has another version by now.
var ErrDraftChanged = errors.New("the draft was changed meanwhile")

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
	return Draft{Bundle: row.Bundle, By: row.By, Base: row.Base, Version: row.Version, At: row.At.UTC()}
}

// Draft returns one draft; ErrNotFound if there is none.
func (s *Store) Draft(ctx context.Context, bundle, by string) (Draft, error) {
	var rows []draftRow
	if err := s.read.WithContext(ctx).Where("bundle = ? AND by = ?", bundle, by).Limit(1).Find(&rows).Error; err != nil {
		return Draft{}, err
	}
	if len(rows) == 0 {
		return Draft{}, ErrNotFound
	}
	d := rows[0].head()
	if err := json.Unmarshal([]byte(rows[0].Files), &d.Files); err != nil {
		return d, fmt.Errorf("the draft of %s by %s cannot be read: %w", bundle, by, err)
	}
	return d, nil
}

// Drafts lists all drafts without their files, by bundle and author.
func (s *Store) Drafts(ctx context.Context) ([]Draft, error) {
	var rows []draftRow
	if err := s.read.WithContext(ctx).Omit("files").Order("bundle, by").Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]Draft, len(rows))
	for i, row := range rows {
		out[i] = row.head()
	}
	return out, nil
}

// SaveDraft stores a draft in place of the version expect (0: of none), and
// returns it with its new version. It fails with ErrDraftChanged when another
// version is there.
func (s *Store) SaveDraft(ctx context.Context, d Draft, expect uint) (Draft, error) {
	text, err := json.Marshal(d.Files)
	if err != nil {
		return d, err
	}
	d.Version = expect + 1
	err = s.write.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var have []draftRow
		if err := tx.Omit("files").Where("bundle = ? AND by = ?", d.Bundle, d.By).Find(&have).Error; err != nil {
			return err
		}
		if len(have) == 0 && expect != 0 || len(have) == 1 && have[0].Version != expect {
			return ErrDraftChanged
		}
		return tx.Save(&draftRow{Bundle: d.Bundle, By: d.By, Files: string(text), Base: d.Base, Version: d.Version, At: d.At}).Error
	})
	return d, err
}

// DropDraft deletes a draft; one that is not there is no error.
func (s *Store) DropDraft(ctx context.Context, bundle, by string) error {
	return s.write.WithContext(ctx).Where("bundle = ? AND by = ?", bundle, by).Delete(&draftRow{}).Error
}
