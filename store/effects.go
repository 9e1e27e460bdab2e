package store

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"fmt"
	"time"
)

// effectRow is the effect of a revision: what a list shows, and all of it.
type effectRow struct {
	Revision uint `gorm:"primaryKey"`
	Head     string
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

// AddEffect keeps the effect of a revision: head is what lists show of it.
func (s *Store) AddEffect(ctx context.Context, revision uint, head, effect any) error {
	text, err := json.Marshal(head)
	if err != nil {
		return err
	}
	body, err := zipped(effect)
	if err != nil {
		return err
	}
	return s.write.WithContext(ctx).Save(&effectRow{Revision: revision, Head: string(text), Body: body}).Error
}

// Effect reads the effect of a revision; ErrNotFound when none was kept.
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

// EffectHeads visits what lists show of the effects of the revisions from first
// to last.
func (s *Store) EffectHeads(ctx context.Context, first, last uint, visit func(revision uint, read func(any) error) error) error {
	var rows []effectRow
	if err := s.read.WithContext(ctx).Omit("body").Where("revision BETWEEN ? AND ?", first, last).Find(&rows).Error; err != nil {
		return err
	}
	for _, r := range rows {
		if err := visit(r.Revision, func(into any) error { return json.Unmarshal([]byte(r.Head), into) }); err != nil {
			return err
		}
	}
	return nil
}

// WithoutEffect lists revisions since a time whose effect was not kept, without
// their text, oldest first.
func (s *Store) WithoutEffect(ctx context.Context, since time.Time, limit int) ([]Revision, error) {
	var rows []revisionRow
	err := s.read.WithContext(ctx).Omit("bundles").Where("at >= ? AND number NOT IN (SELECT revision FROM effects)", since.UTC()).Order("number").Limit(limit).Find(&rows).Error
	out := make([]Revision, len(rows))
	for i, row := range rows {
		out[i] = row.head()
	}
	return out, err
}
