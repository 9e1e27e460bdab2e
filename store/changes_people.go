package store

import (
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"
)

// AddAccessToken adds a token.
type AddAccessToken struct{ AccessToken }

func (c AddAccessToken) write(tx *gorm.DB) error {
	return tx.Create(&accessTokenRow{
		ID: c.ID, Hash: c.Hash, Name: c.Name, Role: c.Role, Teams: strings.Join(c.Teams, " "), By: c.By,
		Created: c.Created.UTC(), Expires: c.Expires.UTC(), Used: c.Used.UTC(),
	}).Error
}

// DeleteAccessToken deletes a token; one that is not there is no error.
type DeleteAccessToken struct{ ID string }

func (c DeleteAccessToken) write(tx *gorm.DB) error {
	return tx.Where("id = ?", c.ID).Delete(&accessTokenRow{}).Error
}

// AddSession adds a session.
type AddSession struct{ Session }

func (c AddSession) write(tx *gorm.DB) error {
	return tx.Create(&sessionRow{
		ID: c.ID, Hash: c.Hash, Name: c.Name, Role: c.Role, Teams: strings.Join(c.Teams, " "), Of: c.Of,
		Address: c.Address, Program: c.Program,
		Created: c.Created.UTC(), Expires: c.Expires.UTC(), Used: c.Used.UTC(),
	}).Error
}

// DeleteSessions deletes sessions; those that are not there are no error.
type DeleteSessions []string

func (c DeleteSessions) write(tx *gorm.DB) error {
	for batch := range slices.Chunk(c, batchRows) {
		if err := tx.Where("id IN ?", batch).Delete(&sessionRow{}).Error; err != nil {
			return err
		}
	}
	return nil
}

// UsedCredentials notes when credentials were last used, by their ids.
type UsedCredentials struct{ Tokens, Sessions map[string]time.Time }

func (c UsedCredentials) write(tx *gorm.DB) error {
	for id, at := range c.Tokens {
		if err := tx.Model(&accessTokenRow{}).Where("id = ?", id).Update("used", at.UTC()).Error; err != nil {
			return err
		}
	}
	for id, at := range c.Sessions {
		if err := tx.Model(&sessionRow{}).Where("id = ?", id).Update("used", at.UTC()).Error; err != nil {
			return err
		}
	}
	return nil
}
