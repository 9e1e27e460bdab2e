package store

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"io"
	"time"
)

// Link is the hash of an entry: SHA-256 of its fields and of the hash of the entry before
// it (Prior), in hexadecimal. Each field is written with its length before it, so that no
// two entries are written alike.
func (a Activity) Link() string {
	sum := sha256.New()
	fields := []string{
		a.Prior, fmt.Sprint(a.Number), a.At.UTC().Format(time.RFC3339Nano), a.Who, a.Kind, a.Service, a.Version,
		a.Instance, a.Detail, fmt.Sprint(a.Revision), a.Address, a.Credential, a.Result, a.Before, a.After,
	}
	if a.Site != "" { // entries from before there were sites keep their hashes
		fields = append(fields, a.Site)
	}
	for _, field := range fields {
		binary.Write(sum, binary.BigEndian, uint64(len(field)))
		io.WriteString(sum, field)
	}
	return hex.EncodeToString(sum.Sum(nil))
}

// Chain checks entries of the activity log, each as it comes, the oldest first.
type Chain struct {
	First, Last uint   // numbers of the entries that were checked; 0: none
	Head        string // hash of the last
	Unchained   int    // entries from before entries were chained
	Fault       string // what is wrong with the first entry that does not fit; empty: all fit
}

// Add checks the next entry. It tells whether all fit so far.
func (c *Chain) Add(a Activity) bool {
	switch {
	case c.Fault != "":
	case a.Hash == "" && c.First == 0:
		c.Unchained++
	case a.Hash == "" || a.Link() != a.Hash:
		c.Fault = fmt.Sprintf("entry %d was changed: it is not what its hash is of", a.Number)
	case c.First == 0 && c.Unchained > 0 && a.Prior != "":
		c.Fault = fmt.Sprintf("entries before %d have lost their hashes", a.Number)
	case c.First == 0:
		c.First, c.Last, c.Head = a.Number, a.Number, a.Hash
	case a.Number > c.Last+1:
		c.Fault = fmt.Sprintf("entries are missing between %d and %d", c.Last, a.Number)
	case a.Number <= c.Last || a.Prior != c.Head:
		c.Fault = fmt.Sprintf("entry %d does not follow entry %d: one of them was replaced, or moved", a.Number, c.Last)
	default:
		c.Last, c.Head = a.Number, a.Hash
	}
	return c.Fault == ""
}

// atOnce is how many entries of the activity log are read at once.
const atOnce = 1000

// EachActivity calls each with the entries of the activity log that a filter chooses, the
// oldest first, until it returns false. Limit and After of the filter do not count.
func (s *Store) EachActivity(ctx context.Context, f ActivityFilter, each func(Activity) bool) error {
	f.After, f.Limit = 0, atOnce
	for {
		list, err := s.activity(ctx, f, true)
		if err != nil {
			return err
		}
		for _, a := range list {
			if !each(a) {
				return nil
			}
			f.After = a.Number
		}
		if len(list) < atOnce {
			return nil
		}
	}
}
