package control

import (
	"context"
	"fmt"
	"strings"
	"unicode"

	"nightjar/core/rules"
	"nightjar/store"
)

// Limits on drafts: bytes of the name of whoever drafts, and how many are kept.
const (
	maxAuthor = 100
	maxDrafts = 1000
)

// Draft returns what somebody is working on; store.ErrNotFound if that is
// nothing.
func (c *Control) Draft(ctx context.Context, bundle, by string) (store.Draft, error) {
	return c.store.Draft(ctx, bundle, by)
}

// Drafts lists who is working on what.
func (c *Control) Drafts(ctx context.Context) ([]store.Draft, error) { return c.store.Drafts(ctx) }

// SaveDraft keeps what somebody is working on, in place of the version expect;
// 0: there is none yet. Mistakes in it do not matter.
func (c *Control) SaveDraft(ctx context.Context, d store.Draft, expect uint) (store.Draft, error) {
	if !bundleShape.MatchString(d.Bundle) {
		return d, Unusable{fmt.Sprintf("%q cannot be the name of a bundle: use small letters, digits and hyphens", d.Bundle)}
	}
	if d.By == "" || len(d.By) > maxAuthor || strings.ContainsFunc(d.By, unicode.IsControl) {
		return d, Unusable{fmt.Sprintf("a draft needs a name of whom it belongs to, of at most %d bytes on one line", maxAuthor)}
	}
	total := 0
	for _, f := range d.Files {
		total += len(f.Text)
	}
	if total > rules.MaxBytes {
		return d, Unusable{fmt.Sprintf("the draft holds %d bytes: at most %d can be published", total, rules.MaxBytes)}
	}
	if expect == 0 {
		list, err := c.store.Drafts(ctx)
		if err != nil {
			return d, err
		}
		if len(list) >= maxDrafts {
			return d, Unusable{fmt.Sprintf("%d drafts are kept already, of %s and others: discard some", len(list), list[0].By)}
		}
	}
	d.At = c.now().UTC()
	return c.store.SaveDraft(ctx, d, expect)
}

// DropDraft forgets what somebody was working on.
func (c *Control) DropDraft(ctx context.Context, bundle, by string) error {
	return c.store.DropDraft(ctx, bundle, by)
}
