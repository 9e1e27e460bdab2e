package store

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"fmt"
	"time"
)

// effectRow is the effect of a revision: what a list shows of it, and all of it.
type effectRow struct {
	Revision uint   `gorm:"primaryKey"`
	Head     string // JSON
	Body     []byte // JSON, gzipped
}

func (effectRow) TableName() string { return "effects" }

func zipped(v any) ([]byte, error) {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	if err := json.NewEncoder(z).Encode(v); err != nil {
		return nil, err
	}
	err := z.Close()
	return b.Bytes(), err
}

func unzip(b []byte, into any) error {
	z, err := gzip.NewReader(bytes.NewReader(b))
	if err != nil {
		return err
	}
	return json.NewDecoder(z).Decode(into)
}

// Effect reads the effect of a revision; ErrNotFound when none is kept.
func (s *Store) Effect(ctx context.Context, revision uint, into any) error {
	var rows []effectRow
	if err := s.read.WithContext(ctx).Where("revision = ?", revision).Limit(1).Find(&rows).Error; err != nil {
		return err
	}
	if len(rows) == 0 {
		return ErrNotFound
	}
	if err := unzip(rows[0].Body, into); err != nil {
		return fmt.Errorf("the effect of revision %d cannot be read: %w", revision, err)
	}
	return nil
}

// EffectSummaries visits what lists show of the effects of the revisions from
// first to last; read decodes it.
func (s *Store) EffectSummaries(
	ctx context.Context,
	first, last uint,
	visit func(revision uint, read func(any) error) error,
) error {
	var rows []effectRow
	err := s.read.WithContext(ctx).Omit("body").Where("revision BETWEEN ? AND ?", first, last).Find(&rows).Error
	if err != nil {
		return err
	}
	for _, r := range rows {
		read := func(into any) error { return decode(r.Head, into, "the effect of revision %d", r.Revision) }
		if err := visit(r.Revision, read); err != nil {
			return err
		}
	}
	return nil
}

// WithoutEffect lists revisions above the number after, since a time, whose effect is not
// kept, without their text, oldest first.
func (s *Store) WithoutEffect(ctx context.Context, after uint, since time.Time, limit int) ([]Revision, error) {
	var rows []revisionRow
	err := s.read.WithContext(ctx).Omit("bundles").
		Where("number > ? AND at >= ? AND number NOT IN (SELECT revision FROM effects)", after, since.UTC()).
		Order("number").Limit(limit).Find(&rows).Error
	return heads(rows), err
}
