package store

import (
	"errors"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

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
