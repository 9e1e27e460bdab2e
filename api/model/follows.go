package model

import "time"

// States of a Follow.
const (
	InStep      = "in step"     // what the branch says is in force
	Behind      = "behind"      // the branch says something that is not in force yet
	Refused     = "refused"     // the newest commit has mistakes; the last good one is in force
	Drifted     = "drifted"     // what is in force was changed otherwise
	Unreachable = "unreachable" // the repository cannot be read
)

// What becomes of changes that are made otherwise than by the branch.
const (
	DriftRevert = "revert" // the next look puts back what the branch says
	DriftReport = "report" // they stay, and are shown
)

// States of a Proposal.
const (
	ProposalOpen   = "open"
	ProposalMerged = "merged"
	ProposalGone   = "gone" // its branch is there no more, and the followed branch has not got it
)

// FollowRequest asks that a bundle follow a branch of a repository.
type FollowRequest struct {
	Bundle string `json:"bundle"`
	// https://HOST/PATH, ssh://USER@HOST/PATH, or the absolute path of a repository of the
	// service's machine
	URL    string `json:"url"`
	Branch string `json:"branch,omitempty"` // main when absent
	Path   string `json:"path,omitempty"`   // directory or file of the repository; all of it when absent
	// seconds between two looks; 30 when absent, at least 5, at most a day
	EverySeconds float64 `json:"everySeconds,omitempty"`
	// text of a private key for ssh; for https a token, or USER:PASSWORD. It is kept in a file
	// of the data directory and never shown
	Key string `json:"key,omitempty"`
	// by which an SSH server is known: SHA256:…, or the line of its .pub file; when absent, the
	// one that it shows first
	HostKey string   `json:"hostKey,omitempty"`
	Drift   string   `json:"drift,omitempty"`  // revert (when absent) or report
	Notify  []string `json:"notify,omitempty"` // URLs that get a CloudEvent at each new state
}

// FollowCommit is a commit of a branch.
type FollowCommit struct {
	ID      string `json:"id"`
	Author  string `json:"author"`  // as the commit says
	Subject string `json:"subject"` // first line of its message
}

// Follow is a bundle that follows a branch of a repository.
type Follow struct {
	Bundle       string   `json:"bundle"`
	URL          string   `json:"url"`
	Branch       string   `json:"branch"`
	Path         string   `json:"path"`
	EverySeconds float64  `json:"everySeconds"` // between two looks
	HasKey       bool     `json:"hasKey"`
	HostKey      string   `json:"hostKey,omitempty"` // by which the SSH server is known: its type and SHA256:…
	Drift        string   `json:"drift"`             // revert or report
	Notify       []string `json:"notify"`
	// it stands in the configuration of the service, and is changed there
	IsConfigured bool          `json:"isConfigured"`
	By           string        `json:"by"`
	State        string        `json:"state"`            // in step, behind, refused, drifted or unreachable
	Since        time.Time     `json:"since"`            // when it came into its state
	Why          string        `json:"why"`              // of the state, in words; empty: nothing is to say
	Tip          string        `json:"tip"`              // id of the newest commit that was looked at; empty: none was
	Commit       *FollowCommit `json:"commit,omitempty"` // the last good one; absent: there is none
	Newest       *FollowCommit `json:"newest,omitempty"` // that is refused, or not in force yet; absent: it is commit
	Revision     uint          `json:"revision"`         // that put commit in force; 0: none
	Looked       *time.Time    `json:"looked,omitempty"` // the last time; absent: not since the service started
	Findings     []Finding     `json:"findings"`         // in the refused commit
	// what is in force otherwise than the branch says; at most 200
	Differences []Change     `json:"differences"`
	Edits       []FollowEdit `json:"edits"`     // by releases, that the branch has not got yet
	Proposals   []Proposal   `json:"proposals"` // the newest first
	// path of the address that makes it look at once, without a credential (POST); for admins
	Hook string `json:"hook,omitempty"`
}

// FollowEdit is what a release wrote, which stays in force until the branch has it.
type FollowEdit struct {
	Release  string `json:"release"`
	Route    string `json:"route"`    // PARENT/ROUTE
	Targets  string `json:"targets"`  // as in a rule file
	Proposal uint   `json:"proposal"` // 0: it was not pushed yet
}

// FollowList is all bundles that follow a branch.
type FollowList struct {
	Follows []Follow `json:"follows"`
}

// ProposalRequest asks that a change be pushed as a branch of its own. At most one of files,
// draft, split and revision is there; without any, what is in force is proposed.
type ProposalRequest struct {
	Message  string       `json:"message"`            // of the commit
	Files    []File       `json:"files,omitempty"`    // all files of the bundle
	Draft    bool         `json:"draft,omitempty"`    // the draft of who calls
	Split    *SplitChange `json:"split,omitempty"`    // other weights of one route
	Revision uint         `json:"revision,omitempty"` // the text of an earlier revision
}

// Proposal is a branch that was pushed to be reviewed where a team reviews code.
type Proposal struct {
	Number  uint      `json:"number"`
	Bundle  string    `json:"bundle"`
	Branch  string    `json:"branch"`
	Commit  string    `json:"commit"`
	Message string    `json:"message"`
	Of      string    `json:"of"` // what was proposed, in words
	By      string    `json:"by"`
	At      time.Time `json:"at"`
	State   string    `json:"state"` // open, merged or gone
	Since   time.Time `json:"since"`
	Files   []string  `json:"files"`   // that it changes, as they are called in the repository
	Changes []Change  `json:"changes"` // of what the branch says; at most 200
	// what is expected of it, as of a draft
	Forecast *ProposalForecast `json:"forecast,omitempty"`
}

// ProposalForecast is what the forecast says of a proposal.
type ProposalForecast struct {
	Rows   []EffectRow `json:"rows"`             // of the mesh and of what it changes
	Worse  string      `json:"worse,omitempty"`  // a caller or service whose success drops by more than one point
	Failed string      `json:"failed,omitempty"` // why there is none
}

// LookRequest asks to look at a repository at once.
type LookRequest struct {
	// publish access rules even if they refuse every request of a link in use
	RefuseUsedLinks bool `json:"refuseUsedLinks,omitempty"`
}
