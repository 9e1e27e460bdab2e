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
	Detail   string
	Revision uint // that was published by it; 0: none
}

type activityRow struct {
	Number   uint `gorm:"primaryKey;autoIncrement"`
	At       time.Time
	Who      string
	Kind     string
	Service  string
	Version  string
	Instance string
	Detail   string
	Revision uint
}

func (activityRow) TableName() string { return "activity" }

// ActivityFilter chooses entries of the activity log. Empty fields choose all.
type ActivityFilter struct {
	// Service chooses what is about the service: its own entries, revisions after which
	// something else holds for it, and drills that affect all services.
	Service string
	Who     string // part of who it was, in any case
	About   Subject
	Before  uint // only entries below this number; 0: from the newest
	Limit   int  // entries at most
}

// Subject is what entries are about.
type Subject string

// The groups of entries.
const (
	AboutRules   Subject = "rules"   // and releases
	AboutDrills  Subject = "drills"  // and trials
	AboutProxies Subject = "proxies" // and the authority
	AboutGuards  Subject = "guards"  // and health: everything else
)

// kindsOf are the beginnings of the kinds of each group.
var kindsOf = map[Subject][]string{
	AboutRules:   {"publish", "split", "restore", "release"},
	AboutDrills:  {"drill", "trial", "standin"},
	AboutProxies: {"join", "restarted", "left", "rejecting", "problem", "solved", "authority", "caller", "records"},
}

// Activity lists the log, newest first.
func (s *Store) Activity(ctx context.Context, f ActivityFilter) ([]Activity, error) {
	var rows []activityRow
	q := s.read.WithContext(ctx).Order("number DESC").Limit(f.Limit)
	if f.Service != "" {
		q = q.Where(`service = @service OR service = '' AND kind IN ('drill-started', 'drill-ended')
			OR activity.revision > 0 AND EXISTS (SELECT 1 FROM revisions AS r,
				json_each(CASE r.touched WHEN '' THEN json_array(@service) ELSE r.touched END) AS t
				WHERE r.number = activity.revision AND t.value = @service)`, sql.Named("service", f.Service))
	}
	if f.Who != "" {
		q = q.Where("instr(lower(who), lower(?)) > 0", f.Who)
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
	for _, group := range []Subject{AboutRules, AboutDrills, AboutProxies} {
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
