package control

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"nightjar/core/rules"
	"nightjar/store"
)

// MainBundle is the bundle that commands mean when none is named.
const MainBundle = "main"

// Mistaken means that rules have mistakes and were not published.
type Mistaken struct{ Findings []rules.Finding }

func (e Mistaken) Error() string {
	n := rules.Mistakes(e.Findings)
	if n == 1 {
		return "the rules have 1 mistake; nothing was published"
	}
	return fmt.Sprintf("the rules have %d mistakes; nothing was published", n)
}

// Overtaken means that another revision came in between.
type Overtaken struct{ Expected, InForce uint }

func (e Overtaken) Error() string {
	return fmt.Sprintf("revision %d is in force by now, not %d: look at what changed, then publish again", e.InForce, e.Expected)
}

// Unusable is a request that cannot be carried out as it is.
type Unusable struct{ Why string }

func (e Unusable) Error() string { return e.Why }

// Missing is a request for something that there is not.
type Missing struct{ Why string }

func (e Missing) Error() string { return e.Why }

var bundleShape = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$`)

// joined is all files of all bundles, in the order of the bundles' names. Files
// of other bundles than the main one carry the bundle's name, so that positions
// are unambiguous.
func joined(b store.Bundles) []rules.File {
	var out []rules.File
	for _, name := range slices.Sorted(maps.Keys(b)) {
		for _, f := range b[name] {
			if name != MainBundle {
				f.Name = name + ":" + f.Name
			}
			out = append(out, f)
		}
	}
	return out
}

// with is the bundles with one of them replaced; without files it goes.
func with(b store.Bundles, name string, files []rules.File) store.Bundles {
	out := maps.Clone(b)
	if out == nil {
		out = store.Bundles{}
	}
	out[name] = files
	if len(files) == 0 {
		delete(out, name)
	}
	return out
}

// Report is what checking found.
type Report struct {
	Findings []rules.Finding `json:"findings" doc:"in the order of the files"`
	Mistakes int             `json:"mistakes"`
	Warnings int             `json:"warnings"`
	Changes  []rules.Change  `json:"changes" doc:"what publishing would change; empty when there are mistakes"`
	Revision uint            `json:"revision" doc:"the revision in force that the files were compared with"`
	Releases []Overlaid      `json:"releases" doc:"what releases change besides the files, or have written since they were published"`
}

// Check reads the files as the new content of a bundle, beside the other
// bundles in force, and remembers them as the files last checked.
func (c *Control) Check(ctx context.Context, bundle string, files []rules.File, by string) (Report, error) {
	rep, err := c.Look(bundle, files)
	if err != nil {
		return rep, err
	}
	if len(rep.Changes) > 0 {
		own, err := c.writtenSince(ctx, bundle)
		if err != nil {
			return rep, err
		}
		rep.Releases = append(rep.Releases, own...)
	}
	c.checking.Lock()
	defer c.checking.Unlock()
	c.drafts = nil
	return rep, c.store.SetChecked(ctx, store.Checked{Bundle: bundle, Files: files, By: by, At: c.now().UTC(), Mistakes: rep.Mistakes})
}

// Look checks files as Check does, and remembers nothing: for files that are
// being worked on. It tells of running releases alone.
func (c *Control) Look(bundle string, files []rules.File) (Report, error) {
	_, rep, err := c.check(bundle, files)
	if err == nil {
		rep.Releases = c.overlaid()
	}
	return rep, err
}

func (c *Control) check(bundle string, files []rules.File) (*rules.Rules, Report, error) {
	if !bundleShape.MatchString(bundle) {
		return nil, Report{}, Unusable{fmt.Sprintf("%q cannot be the name of a bundle: use small letters, digits and hyphens", bundle)}
	}
	names := map[string]bool{}
	for _, f := range files {
		if f.Name == "" || names[f.Name] {
			return nil, Report{}, Unusable{fmt.Sprintf("file name %q is empty or comes twice: give each file once", f.Name)}
		}
		names[f.Name] = true
	}
	c.mu.Lock()
	force, live := c.force, c.live()
	c.mu.Unlock()
	rs, found := rules.Check(joined(with(force.Revision.Bundles, bundle, files)), live)
	rep := Report{Findings: found, Mistakes: rules.Mistakes(found), Changes: []rules.Change{}, Revision: force.Revision.Number, Releases: []Overlaid{}}
	rep.Warnings = len(found) - rep.Mistakes
	if rep.Findings == nil {
		rep.Findings = []rules.Finding{}
	}
	if rep.Mistakes == 0 {
		rep.Changes = append(rep.Changes, rules.Diff(force.Written, rs)...)
	}
	return rs, rep, nil
}

// Publication asks for a new revision.
type Publication struct {
	Bundle  string
	Files   []rules.File
	Author  string
	Message string
	Expect  *uint         // publish only on top of this revision
	Wait    time.Duration // how long to wait for the proxies

	kind string
}

// Published is a revision that was put in force.
type Published struct {
	Revision uint            `json:"revision"`
	Reached  Reached         `json:"reached" doc:"which proxies have it"`
	Changes  []rules.Change  `json:"changes" doc:"against the revision before"`
	Warnings []rules.Finding `json:"warnings"`
	Withdrew []string        `json:"withdrew,omitempty" doc:"releases whose routes it changes, and which it withdrew"`
}

// Publish replaces a bundle. The revision is stored before any proxy hears of
// it, and reported only after it is stored.
func (c *Control) Publish(ctx context.Context, p Publication) (Published, error) {
	c.publishing.Lock()
	out, since, err := c.publish(ctx, p)
	c.publishing.Unlock()
	if err != nil {
		return out, err
	}
	out.Reached = c.await(ctx, out.Revision, since, min(p.Wait, time.Minute))
	return out, nil
}

// publish does the part of Publish that one publisher at a time may do.
func (c *Control) publish(ctx context.Context, p Publication) (Published, time.Time, error) {
	if force := c.InForce().Revision.Number; p.Expect != nil && *p.Expect != force {
		return Published{}, time.Time{}, Overtaken{*p.Expect, force}
	}
	rs, rep, err := c.check(p.Bundle, p.Files)
	if err != nil {
		return Published{}, time.Time{}, err
	}
	if rep.Mistakes > 0 {
		return Published{}, time.Time{}, Mistaken{rep.Findings}
	}
	force := c.InForce()
	out := Published{Changes: rep.Changes, Warnings: rep.Findings}
	rev, withdrew, err := c.put(ctx, store.Revision{Kind: cmp.Or(p.kind, "publish"), Bundle: p.Bundle, Author: cmp.Or(p.Author, "unknown"),
		Message: p.Message, Bundles: with(force.Revision.Bundles, p.Bundle, p.Files)}, rs, rep.Changes)
	out.Revision, out.Withdrew = rev.Number, withdrew
	return out, c.InForce().Since, err
}

// put stores a revision that a person made, withdraws the releases whose routes
// it changes, and puts it in force. A caller that leaves meanwhile does not stop
// it: what is stored and what is in force must not part.
func (c *Control) put(ctx context.Context, rev store.Revision, rs *rules.Rules, changes []rules.Change) (_ store.Revision, withdrew []string, err error) {
	rev.At = c.now().UTC()
	over := c.overtaken(&rev, rs, changes)
	for _, x := range over {
		withdrew = append(withdrew, x.run.Plan.Name)
	}
	if err := c.commit(ctx, &text{rev, rs}, over); err != nil {
		return rev, nil, fmt.Errorf("the revision could not be stored: %w", err)
	}
	return c.InForce().Revision, withdrew, nil
}

// enforce lets the proxies have a stored revision, which may be the last of
// several.
func (c *Control) enforce(f Force, made []store.Revision) {
	c.mu.Lock()
	defer c.mu.Unlock()
	f.Since = c.now()
	c.force = f
	c.bump(true, false)
	for _, rev := range made {
		detail := fmt.Sprintf("revision %d", rev.Number)
		if rev.Message != "" {
			detail += ": " + rev.Message
		}
		c.happened(store.Activity{At: f.Since.UTC(), Who: rev.Author, Kind: rev.Kind, Detail: detail})
	}
}

// Restore publishes all bundles of an earlier revision as a new one.
func (c *Control) Restore(ctx context.Context, number uint, author, message string, wait time.Duration) (Published, error) {
	c.publishing.Lock()
	out, since, err := func() (Published, time.Time, error) {
		old, err := c.store.Revision(ctx, number)
		if err != nil || number == 0 {
			return Published{}, time.Time{}, cmp.Or(err, store.ErrNotFound)
		}
		force := c.InForce()
		c.mu.Lock()
		live := c.live()
		c.mu.Unlock()
		rs, found := rules.Check(joined(old.Bundles), live)
		if rules.Mistakes(found) > 0 {
			return Published{}, time.Time{}, Mistaken{found}
		}
		changes := append([]rules.Change{}, rules.Diff(force.Written, rs)...)
		rev, withdrew, err := c.put(ctx, store.Revision{Kind: "restore", Bundle: "", Author: cmp.Or(author, "unknown"),
			Message: cmp.Or(message, fmt.Sprintf("restore revision %d", number)), Bundles: old.Bundles}, rs, changes)
		return Published{Revision: rev.Number, Changes: changes, Warnings: append([]rules.Finding{}, found...), Withdrew: withdrew}, c.InForce().Since, err
	}()
	c.publishing.Unlock()
	if err != nil {
		return out, err
	}
	out.Reached = c.await(ctx, out.Revision, since, min(wait, time.Minute))
	return out, nil
}

// Weight is one target of a split as its author writes it.
type Weight struct {
	Target string `json:"target" doc:"version, or service/version"`
	Weight string `json:"weight" doc:"percent with up to three decimals; all add to 100"`
}

// Split changes the weights of one route in the text of its file, and publishes
// that. route may be empty when only one can be meant.
func (c *Control) Split(ctx context.Context, service, route string, weights []Weight, p Publication) (Published, error) {
	force := c.InForce()
	change, err := splitOf(&force, service, route, weights)
	if err != nil {
		return Published{}, err
	}
	p.Bundle, p.Files, p.kind = change.bundle, change.files, "split"
	p.Message = cmp.Or(p.Message, change.message)
	if p.Expect == nil {
		p.Expect = &force.Revision.Number
	}
	return c.Publish(ctx, p)
}

// splitting is a change of weights in the text of a file.
type splitting struct {
	bundle  string
	files   []rules.File
	message string
}

// splitOf changes the weights of one route in the text of its file.
func splitOf(force *Force, service, route string, weights []Weight) (splitting, error) {
	var out splitting
	s := force.Written.Service(service)
	if s == nil {
		return out, Unusable{fmt.Sprintf("the rules in force declare no service %s: publish a rule file that does", service)}
	}
	rt, err := rules.SplitRoute(s, route)
	if err != nil {
		return out, Unusable{err.Error()}
	}
	send, err := targets(service, weights)
	if err != nil {
		return out, Unusable{err.Error()}
	}
	bundle, files, err := setSend(force.Revision.Bundles, rt, service, send)
	if err != nil {
		return out, Unusable{err.Error()}
	}
	return splitting{bundle, files, fmt.Sprintf("split %s of %s: %s", rt.Name, service, rules.SendText(send, service))}, nil
}

// setSend writes new targets of a route into the text of its file.
func setSend(b store.Bundles, rt *rules.Route, home string, send []rules.Target) (bundle string, files []rules.File, err error) {
	bundle = MainBundle
	at := *rt
	if name, file, ok := strings.Cut(rt.SendAt.File, ":"); ok && b[name] != nil {
		bundle, at.SendAt.File = name, file
	}
	files, err = rules.SetSend(b[bundle], &at, home, send)
	return bundle, files, err
}

func targets(service string, weights []Weight) ([]rules.Target, error) {
	if len(weights) == 0 {
		return nil, errors.New("no weights were given: give at least one, such as v1=100")
	}
	var out []rules.Target
	var sum rules.Percent
	for _, w := range weights {
		s, v, crossed := strings.Cut(w.Target, "/")
		if !crossed {
			s, v = service, w.Target
		}
		p, err := rules.ParsePercent(w.Weight)
		if err != nil {
			return nil, fmt.Errorf("weight of %s: %w", w.Target, err)
		}
		sum += p
		out = append(out, rules.Target{Service: s, Version: v, Weight: p})
	}
	if sum != rules.Whole {
		return nil, fmt.Errorf("the weights add to %s, not to 100", sum)
	}
	return out, nil
}

// Revision reads one revision with its files; 0 is the one in force.
func (c *Control) Revision(ctx context.Context, number uint) (store.Revision, error) {
	if number == 0 {
		return c.InForce().Revision, nil
	}
	return c.store.Revision(ctx, number)
}

// Revisions lists revisions, newest first.
func (c *Control) Revisions(ctx context.Context, before uint, limit int) ([]store.Revision, error) {
	return c.store.Revisions(ctx, before, limit)
}

// Unpublished is a bundle whose files, as last checked, differ from what is in
// force.
type Unpublished struct {
	Bundle   string    `json:"bundle"`
	By       string    `json:"by"`
	At       time.Time `json:"at" doc:"when the files were checked"`
	Mistakes int       `json:"mistakes"`
	Changes  int       `json:"changes" doc:"how many differences publishing them would make"`
}

// Unpublished lists the bundles whose files were changed, checked and not
// published. It is worked out again only after a check or a new revision.
func (c *Control) Unpublished(ctx context.Context) ([]Unpublished, error) {
	c.checking.Lock()
	defer c.checking.Unlock()
	force := c.InForce().Revision.Number
	if c.drafts != nil && c.draftsOf == force {
		return c.drafts, nil
	}
	checked, err := c.store.CheckedFiles(ctx)
	if err != nil {
		return nil, err
	}
	out := []Unpublished{}
	for _, k := range checked {
		_, rep, err := c.check(k.Bundle, k.Files)
		if err != nil {
			continue
		}
		if rep.Mistakes > 0 || len(rep.Changes) > 0 {
			out = append(out, Unpublished{k.Bundle, k.By, k.At, rep.Mistakes, len(rules.Condense(rep.Changes))})
		}
	}
	c.drafts, c.draftsOf = out, force
	return out, nil
}
