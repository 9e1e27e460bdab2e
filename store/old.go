package store

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"
)

// Kept is a kind of record that is kept for a limited time.
type Kept string

// The kinds of records that are kept for a limited time. Those that are needed stay:
// what is running, the newest revisions, and the revisions whose text others have.
const (
	KeptRevisions  Kept = "revisions"
	KeptEffects    Kept = "effects"
	KeptTrials     Kept = "trials"
	KeptReleases   Kept = "releases" // with their events
	KeptJudgements Kept = "judgements"
	KeptNotices    Kept = "notices" // that were delivered or given up
	KeptDrills     Kept = "drills"
	KeptActivity   Kept = "activity"
	KeptDrafts     Kept = "drafts"
)

// newestRevisions is how many revisions stay, whatever their age.
const newestRevisions = 200

// mostActivity is how many entries of the activity log stay at most.
const mostActivity = 100_000

// old is how records of a kind are found that may go.
type old struct {
	table        string
	where        string // with @before, a time
	parts        []part // go with them
	isUnarchived bool   // they are deleted without being archived
	heavy        string // column that is not archived
}

// part is records that belong to others: those whose column is the number of one.
type part struct{ table, column string }

const overReleases = "release IN (SELECT number FROM releases WHERE over = 1 AND began < @before)"

var expiring = map[Kept]old{
	KeptRevisions: {table: "revisions", where: fmt.Sprintf(`at < @before
		AND number <= (SELECT MAX(number) FROM revisions) - %[1]d
		AND number NOT IN (SELECT base FROM revisions
			WHERE at >= @before OR number > (SELECT MAX(number) FROM revisions) - %[1]d)
		AND number NOT IN (SELECT base FROM drafts)`, newestRevisions)},
	KeptEffects: {table: "effects", heavy: "body", where: `revision IN (SELECT number FROM revisions WHERE at < @before)
		OR revision NOT IN (SELECT number FROM revisions)`},
	KeptTrials: {table: "trials", heavy: "body", where: "state <> 'running' AND began < @before"},
	KeptReleases: {table: "releases", where: "over = 1 AND began < @before", parts: []part{
		{"release_events", "release"}, {"judgements", "release"}, {"notices", "release"}}},
	KeptJudgements: {table: "judgements", where: overReleases},
	KeptNotices:    {table: "notices", where: "state <> '" + NoticeWaiting + "' AND due < @before", isUnarchived: true},
	KeptDrills:     {table: "drills", where: "ends < @before"},
	KeptActivity: {table: "activity", where: fmt.Sprintf( // the oldest alone, so that the chain has no gap
		"number < (SELECT COALESCE(MIN(a.number), 1 << 62) FROM activity AS a WHERE a.at >= @before) "+
			"OR number <= (SELECT MAX(number) FROM activity) - %d", mostActivity)},
	KeptDrafts: {table: "drafts", where: "at < @before"},
}

// Old finds records of a kind from before a time that may go, at most limit. lines is
// what is to be archived of them, as JSON; c deletes them, and is nil when there are none.
func (s *Store) Old(
	ctx context.Context,
	kind Kept,
	before time.Time,
	limit int,
) (lines []json.RawMessage, c Change, err error) {
	o, isKnown := expiring[kind]
	if !isKnown {
		return nil, nil, fmt.Errorf("there are no records of the kind %q", kind)
	}
	del := DeleteOld{Kind: kind, Before: before}
	err = s.snapshot(ctx, func(tx *gorm.DB) error {
		rows, err := rowsOf(tx, o.table, o.where, limit, del.named())
		if err != nil {
			return err
		}
		for _, row := range rows {
			del.Rows = append(del.Rows, row["old_rowid"].(int64))
		}
		if lines, err = archived(lines, o, o.table, rows); err != nil {
			return err
		}
		for _, p := range o.parts {
			rows, err := rowsOf(tx, p.table, p.column+" IN @rows", -1, del.named())
			if err != nil {
				return err
			}
			if lines, err = archived(lines, o, p.table, rows); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil || len(del.Rows) == 0 {
		return nil, nil, err
	}
	return lines, del, nil
}

func rowsOf(tx *gorm.DB, table, where string, limit int, named map[string]any) (rows []map[string]any, err error) {
	query := fmt.Sprintf("SELECT rowid AS old_rowid, * FROM %s WHERE %s ORDER BY rowid LIMIT %d", table, where, limit)
	return rows, tx.Raw(query, named).Scan(&rows).Error
}

// archived adds rows of a table as lines: their columns, with JSON as JSON.
func archived(lines []json.RawMessage, o old, table string, rows []map[string]any) ([]json.RawMessage, error) {
	if o.isUnarchived || table == "notices" {
		return lines, nil
	}
	for _, row := range rows {
		delete(row, "old_rowid")
		delete(row, o.heavy)
		for column, v := range row {
			text, isText := v.(string)
			if isText && strings.HasPrefix(text, "{") && json.Valid([]byte(text)) {
				row[column] = json.RawMessage(text)
			}
		}
		row["record"] = table
		line, err := json.Marshal(row)
		if err != nil {
			return nil, err
		}
		lines = append(lines, line)
	}
	return lines, nil
}
