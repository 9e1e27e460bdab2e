package store

import (
	"context"
	"database/sql"
	"strings"
	"time"
)

// Activity is an entry of the activity log: what a person did, or a proxy
// reported.
type Activity struct {
	Number   uint
	At       time.Time
	Who      string // a person, or the proxy that reported it
	Kind     string
	Service  string
	Version  string
	Instance string
	Site     string // of the instance, or else of the proxy that reports it; empty: none
	Detail   string
	Revision uint // that was published by it; 0: none

	Address    string // IP address that a person acted from; empty: this machine, or a proxy
	Credential string // what proved who it was; empty: a proxy, or the service itself
	Result     string // one of the results below; empty: somebody reports it
	Before     string // what there was, in a few words
	After      string // what there is now
	Prior      string // Hash of the entry before
	Hash       string // see Link; empty: from before entries were chained
}

// Results of what people do.
const (
	ResultDone    = "done"
	ResultRefused = "refused" // who acts may not
	ResultFailed  = "failed"  // it was not proved who acts
)

type activityRow struct {
	Number     uint `gorm:"primaryKey;autoIncrement"`
	At         time.Time
	Who        string
	Kind       string
	Service    string
	Version    string
	Instance   string
	Site       string
	Detail     string
	Revision   uint
	Address    string
	Credential string
	Result     string
	Before     string
	After      string
	Prior      string
	Hash       string
}

func (activityRow) TableName() string { return "activity" }

// ActivityFilter chooses entries of the activity log. Empty fields choose all.
type ActivityFilter struct {
	// Service chooses what is about the service: its own entries, revisions after which
	// something else holds for it, and drills that affect all services.
	Service string
	Site    string // of it
	Who     string // part of who it was, in any case
	Kind    string // beginning of what it was
	About   Subject
	Since   time.Time // only entries from then on; zero: all
	Before  uint      // only entries below this number; 0: from the newest
	After   uint      // only entries above this number
	Limit   int       // entries at most
}

// Subject is what entries are about.
type Subject string

// The groups of entries.
const (
	AboutRules   Subject = "rules"   // and releases
	AboutDrills  Subject = "drills"  // and trials
	AboutProxies Subject = "proxies" // and the authority
	AboutPeople  Subject = "people"  // who signed in, what was refused, and credentials
	AboutGuards  Subject = "guards"  // and health: everything else
)

// kindsOf are the beginnings of the kinds of each group.
var kindsOf = map[Subject][]string{
	AboutRules:  {"publish", "split", "restore", "release", "commit", "follow-", "proposed"},
	AboutDrills: {"drill", "trial", "standin"},
	AboutProxies: {
		"join", "token", "restarted", "left", "rejecting", "problem", "solved", "authority", "caller", "records", "adopt",
	},
	AboutPeople: {"sign-", "session-", "access-token-", "refused"},
}

// Activity lists the log, newest first.
func (s *Store) Activity(ctx context.Context, f ActivityFilter) ([]Activity, error) {
	return s.activity(ctx, f, false)
}

func (s *Store) activity(ctx context.Context, f ActivityFilter, isOldestFirst bool) ([]Activity, error) {
	var rows []activityRow
	order := "number DESC"
	if isOldestFirst {
		order = "number"
	}
	q := s.read.WithContext(ctx).Order(order).Limit(f.Limit).Where("number > ?", f.After)
	if f.Service != "" {
		q = q.Where(`service = @service OR service = '' AND kind IN ('drill-started', 'drill-ended')
			OR activity.revision > 0 AND EXISTS (SELECT 1 FROM revisions AS r,
				json_each(CASE r.touched WHEN '' THEN json_array(@service) ELSE r.touched END) AS t
				WHERE r.number = activity.revision AND t.value = @service)`, sql.Named("service", f.Service))
	}
	if f.Site != "" {
		q = q.Where("site = ?", f.Site)
	}
	if f.Who != "" {
		q = q.Where("instr(lower(who), lower(?)) > 0", f.Who)
	}
	if f.Kind != "" {
		q = q.Where("substr(kind, 1, ?) = ?", len(f.Kind), f.Kind)
	}
	if !f.Since.IsZero() {
		q = q.Where("at >= ?", f.Since.UTC())
	}
	if f.About != "" {
		q = q.Where(aboutSQL(f.About))
	}
	if f.Before > 0 {
		q = q.Where("number < ?", f.Before)
	}
	err := q.Find(&rows).Error
	out := make([]Activity, len(rows))
	for i, row := range rows {
		out[i] = Activity(row)
		out[i].At = row.At.UTC()
	}
	return out, err
}

// aboutSQL is the condition of a group.
func aboutSQL(a Subject) string {
	var groups []string
	for _, group := range []Subject{AboutRules, AboutDrills, AboutProxies, AboutPeople} {
		if a != AboutGuards && a != group {
			continue
		}
		for _, begin := range kindsOf[group] {
			groups = append(groups, "kind LIKE '"+begin+"%'")
		}
	}
	is := "(" + strings.Join(groups, " OR ") + ")"
	if a == AboutGuards {
		return "NOT " + is
	}
	return is
}
