package store

import (
	"context"
	"strings"
	"time"
)

// AccessToken is the record of a token of a person or a program, without its secret.
type AccessToken struct {
	ID      string
	Hash    string // SHA-256 of the secret, in hexadecimal
	Name    string // of who acts by it, which is in the records of all that it does
	Role    string
	Teams   []string
	By      string // who made it
	Created time.Time
	Expires time.Time
	Used    time.Time // last; zero: never
}

// Session is the record of somebody who is signed in, without the secret.
type Session struct {
	ID      string
	Hash    string // SHA-256 of the secret, in hexadecimal
	Name    string
	Role    string
	Teams   []string
	Of      string // the credential that it came from, which ends it too; empty: none
	Address string // where it began
	Program string // as it calls itself
	Created time.Time
	Expires time.Time
	Used    time.Time // last
}

type accessTokenRow struct {
	ID      string `gorm:"primaryKey"`
	Hash    string
	Name    string
	Role    string
	Teams   string
	By      string
	Created time.Time
	Expires time.Time
	Used    time.Time
}

func (accessTokenRow) TableName() string { return "access_tokens" }

type sessionRow struct {
	ID      string `gorm:"primaryKey"`
	Hash    string
	Name    string
	Role    string
	Teams   string
	Of      string
	Address string
	Program string
	Created time.Time
	Expires time.Time
	Used    time.Time
}

func (sessionRow) TableName() string { return "sessions" }

// AccessTokens lists the tokens, the newest first.
func (s *Store) AccessTokens(ctx context.Context) ([]AccessToken, error) {
	var rows []accessTokenRow
	err := s.read.WithContext(ctx).Order("created DESC, id").Find(&rows).Error
	out := make([]AccessToken, len(rows))
	for i, r := range rows {
		out[i] = AccessToken{
			ID: r.ID, Hash: r.Hash, Name: r.Name, Role: r.Role, Teams: strings.Fields(r.Teams), By: r.By,
			Created: r.Created.UTC(), Expires: r.Expires.UTC(), Used: r.Used.UTC(),
		}
	}
	return out, err
}

// Sessions lists the sessions, the newest first.
func (s *Store) Sessions(ctx context.Context) ([]Session, error) {
	var rows []sessionRow
	err := s.read.WithContext(ctx).Order("created DESC, id").Find(&rows).Error
	out := make([]Session, len(rows))
	for i, r := range rows {
		out[i] = Session{
			ID: r.ID, Hash: r.Hash, Name: r.Name, Role: r.Role, Teams: strings.Fields(r.Teams), Of: r.Of,
			Address: r.Address, Program: r.Program,
			Created: r.Created.UTC(), Expires: r.Expires.UTC(), Used: r.Used.UTC(),
		}
	}
	return out, err
}
