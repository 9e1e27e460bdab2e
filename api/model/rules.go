package model

import (
	"encoding/json"
	"fmt"
	"time"
)

// File is one rule file.
type File struct {
	Name string `json:"name"` // path as the author gave it; positions refer to it
	Text string `json:"text"` // the whole file, YAML or JSON
}

// Origin is the place where something was written. Line and Col count from 1;
// Col counts characters. The zero Origin means "built in".
type Origin struct {
	File string `json:"file,omitempty"`
	Line int    `json:"line,omitempty"`
	Col  int    `json:"col,omitempty"`
}

func (o Origin) String() string {
	if o.File == "" {
		return "built in"
	}
	return fmt.Sprintf("%s:%d:%d", o.File, o.Line, o.Col)
}

// The severities of a Finding.
const (
	Mistake = "mistake" // publishing is refused
	Warning = "warning" // published, and shown everywhere
)

// Finding is one mistake or warning in rules.
type Finding struct {
	Severity  string  `json:"severity"`            // mistake (publishing is refused) or warning
	Code      string  `json:"code"`                // stable name of the kind of finding
	At        Origin  `json:"at"`                  // where it is
	Path      string  `json:"path,omitempty"`      // place in the document, such as services.sailings.routes[1].send
	Message   string  `json:"message"`             // what is wrong
	Expected  string  `json:"expected,omitempty"`  // what would be right, with the nearest known name
	Also      *Origin `json:"also,omitempty"`      // the other place, when two places disagree
	Source    string  `json:"source,omitempty"`    // the source line; of a long line, the part around the column
	SourceCol int     `json:"sourceCol,omitempty"` // column at which source begins; absent: 1
}

// Change is one difference between two sets of rules.
type Change struct {
	Path   string `json:"path"`             // place in the rules; routes are named, not numbered
	Before string `json:"before,omitempty"` // value before; absent when it was added
	After  string `json:"after,omitempty"`  // value after; absent when it was removed
	At     Origin `json:"at"`               // where the new value is written, or where the removed one was
}

// Kind is added, removed or changed.
func (c Change) Kind() string {
	switch {
	case c.Before == "":
		return "added"
	case c.After == "":
		return "removed"
	}
	return "changed"
}

// Setting is one setting that holds, and who set it.
type Setting struct {
	Name    string `json:"name"`
	Value   string `json:"value"`
	From    string `json:"from"`              // level that set it: a service, a route, a policy, defaults or built in
	At      Origin `json:"at"`                // where it is written; empty: built in
	Service string `json:"service,omitempty"` // set when a request can go to several services
}

// CheckRequest asks for a check of all files of one bundle.
type CheckRequest struct {
	Bundle string `json:"bundle,omitempty"` // main when absent
	Files  []File `json:"files"`            // all files of the bundle
	// further bundles that are replaced at once, by name
	Others map[string][]File `json:"others,omitempty"`
	// keep these files to compare them with what is in force, until something is published:
	// every view says when they differ
	Remember bool `json:"remember,omitempty"`
}

// CheckReport is what a check found.
type CheckReport struct {
	Findings []Finding `json:"findings"` // in the order of the files
	Mistakes int       `json:"mistakes"`
	Warnings int       `json:"warnings"`
	Changes  []Change  `json:"changes"`  // what publishing would change; empty when there are mistakes
	Revision uint      `json:"revision"` // revision in force, which the files were compared with
	// what releases change besides the files, or wrote since they were published
	Releases []ReleaseChanges `json:"releases"`
}

// ReleaseChanges is what a release changes in the rules.
type ReleaseChanges struct {
	Release string `json:"release"`
	Number  uint   `json:"number,omitempty"` // of a release that is running
	// true: the release has ended and its end is in the files of the rules; false: it is running,
	// and the files do not show it
	Written  bool     `json:"written"`
	Revision uint     `json:"revision"` // revision that put the change in force
	Changes  []Change `json:"changes"`
}

// FileList is rule files alone.
type FileList struct {
	Files []File `json:"files"`
}

// Amendment is one change of the values of a rule file, as a form makes it.
type Amendment struct {
	File string `json:"file"` // name of the file
	// keys from the top, such as services, sailings, timeout; an item of a list by its name or its
	// number from 0
	Path  []string        `json:"path"`
	Value json.RawMessage `json:"value,omitempty"` // the new value; absent: what is there goes or, with index, moves
	// where in its list the item goes, from 0; absent: it stays, and a new one goes to the end
	Index *int `json:"index,omitempty"`
}

// AmendRequest is rule files with changes to make in place.
type AmendRequest struct {
	Files      []File      `json:"files"`
	Amendments []Amendment `json:"amendments"` // in this order
}

// FileValues is what a rule file says.
type FileValues struct {
	Name  string `json:"name"`
	Value any    `json:"value"` // the same structure, with aliases written out; null: nothing
	Error string `json:"error,omitempty"`
}

// ValuesList is what rule files say.
type ValuesList struct {
	Files []FileValues `json:"files"`
}

// DraftRequest is the rule files that somebody is editing.
type DraftRequest struct {
	Base  uint   `json:"base"` // revision that the edit began from
	Files []File `json:"files"`
}

// Draft is the rule files of a bundle that somebody is editing.
type Draft struct {
	Bundle  string    `json:"bundle"`
	By      string    `json:"by"`
	Base    uint      `json:"base"`            // revision that the edit began from
	Version uint      `json:"version"`         // rises with every change; for If-Match
	At      time.Time `json:"at"`              // when it was saved
	Files   []File    `json:"files,omitempty"` // not in lists
}

// DraftList is all drafts, by bundle and author.
type DraftList struct {
	Drafts []Draft `json:"drafts"`
}

// PublishRequest asks for a new revision in which a bundle has these files.
type PublishRequest struct {
	Bundle string `json:"bundle,omitempty"` // main when absent
	Files  []File `json:"files"`            // all files of the bundle, at least one
	// further bundles that are replaced in the same revision, by name
	Others  map[string][]File `json:"others,omitempty"`
	Message string            `json:"message,omitempty"`
	// how long to wait for the proxies; 5000 when absent, at most 60000
	WaitMS *int `json:"waitMS,omitempty"`
	// publish access rules even if they refuse every request of a link that is in use
	RefuseUsedLinks bool `json:"refuseUsedLinks,omitempty"`
}

// RestoreRequest asks for an earlier revision to be published again.
type RestoreRequest struct {
	Message string `json:"message,omitempty"`
	WaitMS  *int   `json:"waitMS,omitempty"` // see publish

	RefuseUsedLinks bool `json:"refuseUsedLinks,omitempty"` // see publish
}

// SplitRequest asks for new weights on one route.
type SplitRequest struct {
	Route   string   `json:"route,omitempty"` // may be left out when only one route can be meant
	Weights []Weight `json:"weights"`
	Message string   `json:"message,omitempty"`
	WaitMS  *int     `json:"waitMS,omitempty"` // see publish
}

// Weight is one target of a split.
type Weight struct {
	Target string `json:"target"` // version, or service/version
	Weight string `json:"weight"` // percent with up to three decimals; all of them add to 100
}

// Published is a revision that was put in force.
type Published struct {
	Revision uint `json:"revision"`
	// the text is that of the revision in force already, so there is no new one
	IsUnchanged bool      `json:"unchanged,omitempty"`
	Rollout     Rollout   `json:"rollout"` // how many proxies have it in force
	Changes     []Change  `json:"changes"` // against the revision before
	Warnings    []Finding `json:"warnings"`
	// releases that were withdrawn because the revision changes their routes
	Withdrawn []string `json:"withdrawn,omitempty"`
	// what to know besides, such as that the bundle follows a branch, which takes this back
	Notes []string `json:"notes,omitempty"`
}

// Rollout is how many proxies have a revision in force.
type Rollout struct {
	Connected    int     `json:"connected"`    // proxies that were connected
	Acknowledged int     `json:"acknowledged"` // of these, proxies that have the revision in force
	AfterMS      float64 `json:"afterMS"`      // time from the commit to the last acknowledgement
	// connected proxies that do not have it in force, with the reason if they gave one
	Missing []string `json:"missing"`
	// known proxies that are not connected now: they get it when they come back
	Away []string `json:"away"`
}

// Revision is one published state of all bundles.
type Revision struct {
	Number  uint              `json:"number"`
	Kind    string            `json:"kind"`   // publish, split, restore, release or commit
	Bundle  string            `json:"bundle"` // bundle that it changed; empty: all
	Author  string            `json:"author"`
	Message string            `json:"message"`
	Commit  string            `json:"commit,omitempty"` // id of the commit of a repository that it is of
	At      time.Time         `json:"at"`
	Bundles map[string][]File `json:"bundles,omitempty"` // files by bundle; not in lists
}

// RevisionChanges is what a revision changed in the text of the rules.
type RevisionChanges struct {
	Revision uint     `json:"revision"`
	Before   uint     `json:"before"`  // the revision that it is compared with, the newest that is kept below it; 0: none
	Changes  []Change `json:"changes"` // the first 200
	Total    int      `json:"total"`
}

// RevisionPage is one page of revisions.
type RevisionPage struct {
	Revisions []Revision `json:"revisions"`
	Next      uint       `json:"next,omitempty"` // pass as before for the next page; absent on the last
}

// Unpublished is a bundle whose files, as somebody had them remembered, differ from what
// is in force.
type Unpublished struct {
	Bundle      string    `json:"bundle"`
	By          string    `json:"by"`
	At          time.Time `json:"at"`    // when the files were checked
	Files       []string  `json:"files"` // that differ
	Mistakes    int       `json:"mistakes"`
	Changes     int       `json:"changes"`     // differences that publishing them would make
	Differences []Change  `json:"differences"` // the first few of them
}

// EffectiveSettings is everything that holds for a service, each value with its
// origin.
type EffectiveSettings struct {
	Service  string           `json:"service"`
	Revision uint             `json:"revision"`
	Settings []Setting        `json:"settings"` // of the service, apart from its routes
	Routes   []EffectiveRoute `json:"routes"`   // in match order; empty: requests are balanced over all instances
}

// EffectiveRoute is everything that holds for one route.
type EffectiveRoute struct {
	Name     string    `json:"name"`
	At       Origin    `json:"at"`
	When     []string  `json:"when"`           // conditions in words; one must hold; empty: always
	Send     string    `json:"send,omitempty"` // targets with their weights
	Settings []Setting `json:"settings"`       // its actions, and the settings that hold for it
}
