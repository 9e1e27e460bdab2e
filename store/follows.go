package store

import (
	"context"
	"time"

	"nightjar/core/rules"
)

// Follow is a bundle that follows a branch of a repository. It is kept as JSON.
type Follow struct {
	Bundle  string
	URL     string
	Branch  string
	Path    string
	HostKey string // by which an SSH server is known; empty: none is yet
	Every   time.Duration
	Drift   string   // what becomes of changes by hand: revert or report
	Notify  []string // URLs that are told of each new state
	Hook    string   // secret of the address that makes it look at once
	By      string   // who added it

	State    string
	Since    time.Time
	Why      string
	Stuck    string // why the newest commit is not in force, though nothing is wrong with it; empty: it is
	Tip      string // newest commit that was looked at; empty: none was
	Commit   FollowCommit
	Newest   FollowCommit // that is refused; otherwise Commit
	Revision uint         // that put Commit in force
	Seen     uint         // newest revision that was looked through for edits of releases
	Files    []rules.File // as Commit has them; nil: there is none
	Findings []rules.Finding
	Edits    []FollowEdit
}

// FollowCommit is a commit, as somebody reads of it.
type FollowCommit struct{ ID, Author, Subject string }

// FollowEdit is what a release wrote into a bundle that follows a branch, until the branch
// has it too.
type FollowEdit struct {
	Release  string
	Revision uint // that has it
	Ladder   string
	Route    string
	Was, Is  []rules.Target
	Proposal uint // 0: none was pushed yet
}

// Proposal is a branch that was pushed to be reviewed. It is kept as JSON.
type Proposal struct {
	Number   uint `json:"-"`
	Bundle   string
	Branch   string
	Commit   string
	Message  string
	By       string
	At       time.Time
	State    string
	Since    time.Time
	Files    []string     // that it changes
	Texts    []rules.File // those of them that it does not remove
	Of       string       // what was proposed, in words
	Changes  []byte       // JSON
	Forecast []byte       // JSON
}

type followRow struct {
	Bundle string `gorm:"primaryKey"`
	Record string
}

func (followRow) TableName() string { return "follows" }

type proposalRow struct {
	Number uint `gorm:"primaryKey"`
	Bundle string
	Record string
}

func (proposalRow) TableName() string { return "proposals" }

// Follows lists what bundles follow, by the names of the bundles.
func (s *Store) Follows(ctx context.Context) ([]Follow, error) {
	var rows []followRow
	if err := s.read.WithContext(ctx).Order("bundle").Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]Follow, len(rows))
	for i, row := range rows {
		if err := decode(row.Record, &out[i], "what bundle %s follows", row.Bundle); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Proposals lists all proposals, the newest first.
func (s *Store) Proposals(ctx context.Context) ([]Proposal, error) {
	var rows []proposalRow
	if err := s.read.WithContext(ctx).Order("number DESC").Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]Proposal, len(rows))
	for i, row := range rows {
		if err := decode(row.Record, &out[i], "proposal %d", row.Number); err != nil {
			return nil, err
		}
		out[i].Number = row.Number
	}
	return out, nil
}
