// Package retention lets records go that are older than they are to be kept. Before that
// they are archived: a line of JSON each, in a file for each month, which nobody reads
// but people.
package retention

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"nightjar/store"
)

const (
	// Every is how often old records are looked for.
	Every = time.Hour

	// records that go at once: others write in between
	atOnce    = 200
	writeTime = 10 * time.Second
	day       = 24 * time.Hour
)

// Forever keeps records of a kind for ever.
const Forever time.Duration = 0

// Times is how long records of each kind are kept.
type Times map[store.Kept]time.Duration

// Defaults are the times that hold when nobody chose others.
func Defaults() Times {
	return Times{
		store.KeptRevisions:  400 * day,
		store.KeptEffects:    400 * day,
		store.KeptReleases:   400 * day,
		store.KeptDrills:     400 * day,
		store.KeptActivity:   400 * day,
		store.KeptTrials:     180 * day,
		store.KeptDrafts:     180 * day,
		store.KeptJudgements: 90 * day,
		store.KeptNotices:    14 * day,
	}
}

// ParseTimes is the defaults with what a person chose for some kinds: days such as 90d,
// or forever.
func ParseTimes(chosen map[string]string) (Times, error) {
	out := Defaults()
	for kind, text := range chosen {
		if _, isKnown := out[store.Kept(kind)]; !isKnown {
			return nil, fmt.Errorf("there are no records called %q: choose from %s", kind, strings.Join(kinds(), ", "))
		}
		if text == "forever" {
			out[store.Kept(kind)] = Forever
			continue
		}
		days, isDays := strings.CutSuffix(text, "d")
		n, err := strconv.Atoi(days)
		if !isDays || err != nil || n < 1 || n > 36_500 {
			return nil, fmt.Errorf(
				"%s=%s is no time to keep records for: write days, such as 90d, or forever",
				kind,
				text,
			)
		}
		out[store.Kept(kind)] = time.Duration(n) * day
	}
	return out, nil
}

func kinds() []string {
	var out []string
	for k := range Defaults() {
		out = append(out, string(k))
	}
	slices.Sort(out)
	return out
}

// Records is what the retention needs of the store.
type Records interface {
	Apply(ctx context.Context, changes ...store.Change) error
	Old(ctx context.Context, kind store.Kept, before time.Time, limit int) ([]json.RawMessage, store.Change, error)
}

// Retention lets old records go. It is safe for concurrent use.
type Retention struct {
	Records Records
	Times   Times  // nil: the defaults
	Archive string // directory; empty: records go without being archived
	Now     func() time.Time

	mu sync.Mutex // held while records go
}

// Step archives and deletes what is too old, a few records at a time.
func (r *Retention) Step(ctx context.Context) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	times := r.Times
	if times == nil {
		times = Defaults()
	}
	var errs []error
	for _, kind := range slices.Sorted(maps.Keys(times)) {
		if times[kind] == Forever {
			continue
		}
		if err := r.expire(ctx, kind, r.Now().Add(-times[kind])); err != nil {
			errs = append(errs, fmt.Errorf("%s: %w", kind, err))
		}
	}
	return errors.Join(errs...)
}

// expire archives and deletes the records of a kind that are older than a time.
func (r *Retention) expire(ctx context.Context, kind store.Kept, before time.Time) error {
	for ctx.Err() == nil {
		lines, change, err := r.Records.Old(ctx, kind, before, atOnce)
		if err != nil || change == nil {
			return err
		}
		if err := r.archive(lines); err != nil {
			return fmt.Errorf("they stay, because they cannot be archived: %w", err)
		}
		within, stop := context.WithTimeout(ctx, writeTime)
		err = r.Records.Apply(within, change)
		stop()
		if err != nil {
			return err
		}
	}
	return ctx.Err()
}

// archive adds lines to the file of the month, and waits until they are on disk. Lines
// whose records could not be deleted after that come again.
func (r *Retention) archive(lines []json.RawMessage) error {
	if r.Archive == "" || len(lines) == 0 {
		return nil
	}
	if err := os.MkdirAll(r.Archive, 0o700); err != nil {
		return err
	}
	name := filepath.Join(r.Archive, r.Now().UTC().Format("2006-01")+".jsonl")
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	var text bytes.Buffer
	for _, line := range lines {
		text.Write(line)
		text.WriteByte('\n')
	}
	info, err := f.Stat()
	if err != nil {
		return errors.Join(err, f.Close())
	}
	if _, err = f.Write(text.Bytes()); err != nil {
		err = errors.Join(err, f.Truncate(info.Size())) // no half of a line
	}
	return errors.Join(err, f.Sync(), f.Close())
}
