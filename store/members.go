package store

import (
	"context"
	"errors"
	"strings"
	"time"

	"gorm.io/gorm"
)

// Grant is what a proxy may be.
type Grant struct {
	Kind    string // service, gateway or crossing
	Name    string // of the service or gateway, or the site of the crossing
	Version string // empty: any
	Site    string // empty: any
	// Addresses are where it may take requests, as IP addresses or prefixes, besides the
	// one that it connects from.
	Addresses []string
}

// JoinToken is the record of a join token, without its secret.
type JoinToken struct {
	ID   string
	Hash string // SHA-256 of the secret, in hexadecimal
	Grant
	Uses    int // how many proxies may join with it
	Used    int
	Created time.Time
	Expires time.Time
	By      string
}

// Member is the record of a proxy that has joined.
type Member struct {
	ID string
	Grant
	Token   string // id of the token that it joined with; empty: the join file
	KeyHash string // SHA-256 of the public key that it joined with
	Joined  time.Time
	Renewed time.Time // when its certificate was last signed
	Expires time.Time // when that runs out
}

type joinTokenRow struct {
	ID        string `gorm:"primaryKey"`
	Hash      string
	Kind      string
	Name      string
	Version   string
	Site      string
	Addresses string
	Uses      int
	Used      int
	Created   time.Time
	Expires   time.Time
	By        string
}

func (joinTokenRow) TableName() string { return "join_tokens" }

func (r joinTokenRow) token() JoinToken {
	return JoinToken{
		ID:      r.ID,
		Hash:    r.Hash,
		Grant:   Grant{r.Kind, r.Name, r.Version, r.Site, strings.Fields(r.Addresses)},
		Uses:    r.Uses,
		Used:    r.Used,
		Created: r.Created.UTC(),
		Expires: r.Expires.UTC(),
		By:      r.By,
	}
}

type memberRow struct {
	ID        string `gorm:"primaryKey"`
	Kind      string
	Name      string
	Version   string
	Site      string
	Addresses string
	Token     string
	KeyHash   string
	Joined    time.Time
	Renewed   time.Time
	Expires   time.Time
}

func (memberRow) TableName() string { return "members" }

// JoinTokens lists the tokens, the newest first.
func (s *Store) JoinTokens(ctx context.Context) ([]JoinToken, error) {
	var rows []joinTokenRow
	if err := s.read.WithContext(ctx).Order("created DESC, id").Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]JoinToken, len(rows))
	for i, r := range rows {
		out[i] = r.token()
	}
	return out, nil
}

// JoinToken finds a token by the hash of its secret, or fails with ErrNotFound.
func (s *Store) JoinToken(ctx context.Context, hash string) (JoinToken, error) {
	var row joinTokenRow
	err := s.read.WithContext(ctx).Where("hash = ?", hash).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return JoinToken{}, ErrNotFound
	}
	return row.token(), err
}

// Member finds a proxy that has joined, or fails with ErrNotFound.
func (s *Store) Member(ctx context.Context, id string) (Member, error) {
	var r memberRow
	err := s.read.WithContext(ctx).Where("id = ?", id).Take(&r).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return Member{}, ErrNotFound
	}
	return Member{
		ID:      r.ID,
		Grant:   Grant{r.Kind, r.Name, r.Version, r.Site, strings.Fields(r.Addresses)},
		Token:   r.Token,
		KeyHash: r.KeyHash,
		Joined:  r.Joined.UTC(),
		Renewed: r.Renewed.UTC(),
		Expires: r.Expires.UTC(),
	}, err
}
