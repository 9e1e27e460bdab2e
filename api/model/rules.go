package model

import (
	"fmt"
	"time"
)

// File is one rule file.
type File struct {
	Name string `json:"name" doc:"path as the author gave it; positions refer to it"`
	Text string `json:"text" doc:"the whole file, YAML or JSON"`
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
	Severity  string  `json:"severity" doc:"mistake (publishing is refused) or warning"`
	Code      string  `json:"code" doc:"stable name of the kind of finding"`
	At        Origin  `json:"at" doc:"where it is"`
	Path      string  `json:"path,omitempty" doc:"place in the document, such as services.sailings.routes[1].send"`
	Message   string  `json:"message" doc:"what is wrong"`
	Expected  string  `json:"expected,omitempty" doc:"what would be right, with the nearest known name"`
	Also      *Origin `json:"also,omitempty" doc:"the other place, when two places disagree"`
	Source    string  `json:"source,omitempty" doc:"the source line; of a long line, the part around the column"`
	SourceCol int     `json:"sourceCol,omitempty" doc:"column at which source begins; absent: 1"`
}

// Change is one difference between two sets of rules.
type Change struct {
	Path   string `json:"path" doc:"place in the rules; routes are named, not numbered"`
	Before string `json:"before,omitempty" doc:"value before; absent when it was added"`
	After  string `json:"after,omitempty" doc:"value after; absent when it was removed"`
	At     Origin `json:"at" doc:"where the new value is written, or where the removed one was"`
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
	From    string `json:"from" doc:"level that set it: a service, a route, a policy, defaults or built in"`
	At      Origin `json:"at" doc:"where it is written; empty: built in"`
	Service string `json:"service,omitempty" doc:"set when a request can go to several services"`
}

// CheckRequest asks for a check of all files of one bundle.
type CheckRequest struct {
	Bundle  string `json:"bundle,omitempty" doc:"main when absent"`
	Files   []File `json:"files" doc:"all files of the bundle"`
	By      string `json:"by,omitempty" doc:"who checks"`
	IsDraft bool   `json:"isDraft,omitempty" doc:"the files are still being edited: do not keep them as the files last checked"`
}

// CheckReport is what a check found.
type CheckReport struct {
	Findings []Finding        `json:"findings" doc:"in the order of the files"`
	Mistakes int              `json:"mistakes"`
	Warnings int              `json:"warnings"`
	Changes  []Change         `json:"changes" doc:"what publishing would change; empty when there are mistakes"`
	Revision uint             `json:"revision" doc:"revision in force, which the files were compared with"`
	Releases []ReleaseChanges `json:"releases" doc:"what releases change besides the files, or wrote since they were published"`
}

// ReleaseChanges is what a release changes in the rules.
type ReleaseChanges struct {
	Release  string   `json:"release"`
	Number   uint     `json:"number,omitempty" doc:"of a release that is running"`
	Written  bool     `json:"written" doc:"true: the release has ended and its end is in the files of the rules; false: it is running, and the files do not show it"`
	Revision uint     `json:"revision" doc:"revision that put the change in force"`
	Changes  []Change `json:"changes"`
}

// FileList is rule files alone.
type FileList struct {
	Files []File `json:"files"`
}

// DraftRequest is the rule files that somebody is editing.
type DraftRequest struct {
	By    string `json:"by" doc:"whose draft it is"`
	Base  uint   `json:"base" doc:"revision that the edit began from"`
	Files []File `json:"files"`
}

// Draft is the rule files of a bundle that somebody is editing.
type Draft struct {
	Bundle  string    `json:"bundle"`
	By      string    `json:"by"`
	Base    uint      `json:"base" doc:"revision that the edit began from"`
	Version uint      `json:"version" doc:"rises with every change; for If-Match"`
	At      time.Time `json:"at" doc:"when it was saved"`
	Files   []File    `json:"files,omitempty" doc:"not in lists"`
}

// DraftList is all drafts, by bundle and author.
type DraftList struct {
	Drafts []Draft `json:"drafts"`
}

// PublishRequest asks for a new revision in which a bundle has these files.
type PublishRequest struct {
	Bundle  string `json:"bundle,omitempty" doc:"main when absent"`
	Files   []File `json:"files" doc:"all files of the bundle; none: the bundle is removed"`
	Author  string `json:"author,omitempty"`
	Message string `json:"message,omitempty"`
	WaitMS  *int   `json:"waitMS,omitempty" doc:"how long to wait for the proxies; 5000 when absent, at most 60000"`
}

// RestoreRequest asks for an earlier revision to be published again.
type RestoreRequest struct {
	Author  string `json:"author,omitempty"`
	Message string `json:"message,omitempty"`
	WaitMS  *int   `json:"waitMS,omitempty" doc:"see publish"`
}

// SplitRequest asks for new weights on one route.
type SplitRequest struct {
	Route   string   `json:"route,omitempty" doc:"may be left out when only one route can be meant"`
	Weights []Weight `json:"weights"`
	Author  string   `json:"author,omitempty"`
	Message string   `json:"message,omitempty"`
	WaitMS  *int     `json:"waitMS,omitempty" doc:"see publish"`
}

// Weight is one target of a split.
type Weight struct {
	Target string `json:"target" doc:"version, or service/version"`
	Weight string `json:"weight" doc:"percent with up to three decimals; all of them add to 100"`
}

// Published is a revision that was put in force.
type Published struct {
	Revision  uint      `json:"revision"`
	Rollout   Rollout   `json:"rollout" doc:"how many proxies have it in force"`
	Changes   []Change  `json:"changes" doc:"against the revision before"`
	Warnings  []Finding `json:"warnings"`
	Withdrawn []string  `json:"withdrawn,omitempty" doc:"releases that were withdrawn because the revision changes their routes"`
}

// Rollout is how many proxies have a revision in force.
type Rollout struct {
	Connected    int      `json:"connected" doc:"proxies that were connected"`
	Acknowledged int      `json:"acknowledged" doc:"of these, proxies that have the revision in force"`
	AfterMS      float64  `json:"afterMS" doc:"time from the commit to the last acknowledgement"`
	Missing      []string `json:"missing" doc:"connected proxies that do not have it in force, with the reason if they gave one"`
}

// Revision is one published state of all bundles.
type Revision struct {
	Number  uint              `json:"number"`
	Kind    string            `json:"kind" doc:"publish, split, restore or release"`
	Bundle  string            `json:"bundle" doc:"bundle that it changed; empty: all"`
	Author  string            `json:"author"`
	Message string            `json:"message"`
	At      time.Time         `json:"at"`
	Bundles map[string][]File `json:"bundles,omitempty" doc:"files by bundle; not in lists"`
}

// RevisionPage is one page of revisions.
type RevisionPage struct {
	Revisions []Revision `json:"revisions"`
	Next      uint       `json:"next,omitempty" doc:"pass as before for the next page; absent on the last"`
}

// Unpublished is a bundle whose files, as last checked, differ from what is in
// force.
type Unpublished struct {
	Bundle   string    `json:"bundle"`
	By       string    `json:"by"`
	At       time.Time `json:"at" doc:"when the files were checked"`
	Mistakes int       `json:"mistakes"`
	Changes  int       `json:"changes" doc:"differences that publishing them would make"`
}

// EffectiveSettings is everything that holds for a service, each value with its
// origin.
type EffectiveSettings struct {
	Service  string           `json:"service"`
	Revision uint             `json:"revision"`
	Settings []Setting        `json:"settings" doc:"of the service, apart from its routes"`
	Routes   []EffectiveRoute `json:"routes" doc:"in match order; empty: requests are balanced over all instances"`
}

// EffectiveRoute is everything that holds for one route.
type EffectiveRoute struct {
	Name     string    `json:"name"`
	At       Origin    `json:"at"`
	When     []string  `json:"when" doc:"conditions in words, of which one has to hold; empty: always"`
	Send     string    `json:"send,omitempty" doc:"targets with their weights"`
	Settings []Setting `json:"settings" doc:"its actions, and the settings that hold for it"`
}
