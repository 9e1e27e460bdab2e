package store

import (
	"context"
	"time"
)

// Upgrade is that the fleet takes a new program. It is kept as JSON.
type Upgrade struct {
	Number uint `json:"-"`
	By     string
	Began  time.Time
	Ended  time.Time // zero: it is running
	Hash   string    // of the program: SHA-256, in hexadecimal digits
	Size   int64
	Name   string // of the program's file
	Site   string // only proxies there; empty: all
	Shares []float64
	Each   time.Duration // for which a wave is looked at
	State  string        // running, taking-back, completed or taken-back
	Why    string        // it is taken back, or why not all have come back

	Waves   [][]string // ids of proxies
	Wave    int        // that is under way
	Since   time.Time  // when it began, or when taking back began
	Members map[string]UpgradeMember
}

// UpgradeMember is a proxy that takes part in an upgrade.
type UpgradeMember struct {
	Before   string    // hash of the program that it had
	Nonce    string    // of the process that has the new program; empty: none has
	Since    time.Time // when it had it
	Memory   uint64    // bytes, with the program before
	Problems []string  // kinds that it had before
	Failed   string
}

type upgradeRow struct {
	Number uint `gorm:"primaryKey;autoIncrement"`
	Record string
}

func (upgradeRow) TableName() string { return "upgrades" }

// Upgrades lists upgrades, newest first.
func (s *Store) Upgrades(ctx context.Context, limit int) ([]Upgrade, error) {
	var rows []upgradeRow
	if err := s.read.WithContext(ctx).Order("number DESC").Limit(limit).Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]Upgrade, len(rows))
	for i, row := range rows {
		if err := decode(row.Record, &out[i], "upgrade %d", row.Number); err != nil {
			return nil, err
		}
		out[i].Number = row.Number
	}
	return out, nil
}
