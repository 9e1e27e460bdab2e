// Package wire is what proxies and the service say to each other: joining, registration
// under a lease, the stream of snapshots with its acknowledgements, and telemetry. All
// of it is JSON over HTTP below Prefix, on mutual TLS.
package wire

import (
	"time"
	"unicode/utf8"

	"nightjar/core/engine"
	"nightjar/core/lease"
	"nightjar/core/rules"
	"nightjar/core/stats"
)

// Prefix of the paths: GET {id} (which only opens a connection), PUT and DELETE {id}, GET
// {id}/snapshots (a stream of lines), POST {id}/acks, POST {id}/telemetry, POST {id}/seen, POST {id}/limits,
// POST {id}/certificate, GET {id}/programs/{hash}.
const Prefix = Root + "proxies/"

// Root is what all paths of proxies begin with.
const Root = "/mesh/v1/"

// JoinPath takes a Join, by POST.
const JoinPath = Root + "join"

// Headers that proxies add to requests and answers inside the mesh.
const (
	HeaderCaller   = "Nightjar-Caller"    // the calling service
	HeaderTimeLeft = "Nightjar-Time-Left" // milliseconds that the caller will still wait
	HeaderReason   = "Nightjar-Reason"    // on an inbound proxy's own answer: its reason
	// HeaderUnsent says beside it that the workload has not processed the request.
	HeaderUnsent  = "Nightjar-Unsent"
	HeaderMirror  = "Nightjar-Mirror"  // with value "1" the request is a copy, and nobody waits for the answer
	HeaderRequest = "Nightjar-Request" // on a gateway's refusal: the id by which the request is found

	// HeaderAsk asks for HeaderAnswered in the answer. At a gateway its value is
	// Snapshot.Key, elsewhere any.
	HeaderAsk = "Nightjar-Ask"

	// HeaderAnswered says who answered:
	//
	//	service/version; instance="…"; revision=7; route="…"; gate="…"; attempts=2; first=failed
	HeaderAnswered = "Nightjar-Answered"
)

// Registration is what a proxy says of itself. It holds for one lease.
type Registration struct {
	ID      string `json:"id"`                // unique name of the proxy and of the instance beside it
	Nonce   string `json:"nonce"`             // tells two processes with one ID apart
	Service string `json:"service,omitempty"` // service of the workload; empty at a gateway
	Version string `json:"version,omitempty"` // version of the workload
	Site    string `json:"site,omitempty"`    // place where it runs
	Gateway string `json:"gateway,omitempty"` // gateway that this proxy serves
	// Crossing is the site to whose instances this proxy carries what comes from others.
	Crossing string `json:"crossing,omitempty"`
	Listens  string `json:"listens,omitempty"` // host:port where a crossing takes connections
	// host:port where others call the workload; empty: it takes no calls
	Inbound  string `json:"inbound,omitempty"`
	Outbound string `json:"outbound,omitempty"` // host:port where the workload calls others
	// host:port where the workload calls one service, by its name
	Ports   map[string]string `json:"ports,omitempty"`
	Program string            `json:"program"` // version of the proxy program
	PID     int               `json:"pid"`
	Started time.Time         `json:"started"`
	// Build is the SHA-256 of the program's file, in hexadecimal digits; empty: not known.
	Build string `json:"build,omitempty"`
	// TakesPrograms: it can take programs that the service offers.
	TakesPrograms bool `json:"takesPrograms,omitempty"`
	// Upgrade is how it stands to the last program that it was offered; nil: none was.
	Upgrade *UpgradeReport `json:"upgrade,omitempty"`
	// Takes is the nonce of the process whose work this one takes over.
	Takes string `json:"takes,omitempty"`
	// Mesh is the id of the mesh that the proxy follows; empty: none yet.
	Mesh string `json:"mesh,omitempty"`
	// Trusts is the generation of the authorities that the proxy trusts.
	Trusts uint64 `json:"trusts,omitempty"`
	Vitals
}

// Vitals is how a proxy is doing.
type Vitals struct {
	// why the workload's health checks fail; empty: they do not
	Down        string `json:"down,omitempty"`
	Connections int    `json:"connections"` // open connections of callers
	Memory      uint64 `json:"memory"`      // resident bytes of the process

	Problems []Problem `json:"problems,omitempty"` // what is wrong with it now
	Carried  *Carried  `json:"carried,omitempty"`  // by a crossing
}

// Carried is what a crossing has carried since it began.
type Carried struct {
	Connections uint64 `json:"connections"` // that reached their instance
	Unknown     uint64 `json:"unknown"`     // that named no instance of the site, or spoke no TLS
	Unreachable uint64 `json:"unreachable"` // whose instance took no connection
	In          uint64 `json:"in"`          // bytes from other sites to instances
	Out         uint64 `json:"out"`         // bytes from instances to other sites
}

// LimitAsks is what a proxy says of the limits that all proxies share, at
// POST Prefix+ID/limits. The answer is LimitGrants, in the same order.
type LimitAsks struct {
	Limits []LimitAsk `json:"limits"`
}

// LimitAsk is about one limit, by its engine.LimitID.
type LimitAsk struct {
	ID   string      `json:"id"`
	Asks []lease.Ask `json:"asks"`
}

// LimitGrants is what the proxy gets.
type LimitGrants struct {
	Limits []LimitGrant `json:"limits"`
}

// LimitGrant answers a LimitAsk. Without grants the service does not know the limit.
type LimitGrant struct {
	Grants []lease.Grant `json:"grants"`
	Among  int           `json:"among"` // proxies that have asked in the last minute
}

// Problem is something that is wrong with a proxy now.
type Problem struct {
	Kind   string `json:"kind"` // workload, listener, certificate, connections or identity
	Detail string `json:"detail"`
}

// The kinds of problems.
const (
	ProblemWorkload    = "workload"    // the proxy beside it cannot reach it
	ProblemListener    = "listener"    // a gateway does not listen where the rules say
	ProblemCertificate = "certificate" // a gateway has none that it could show for its hosts
	ProblemKeys        = "keys"        // a gateway cannot read the keys of tokens
	ProblemOutside     = "outside"     // names or certificates for instances outside the mesh
	ProblemConnections = "connections" // callers found no room for theirs
	ProblemIdentity    = "identity"    // its own certificate cannot be renewed
)

// Lease is the answer to a Registration.
type Lease struct {
	Seconds int `json:"seconds"` // renew well before
	// Take is the id of the mesh that the proxy is to follow from now on, whatever it
	// followed before, since a person said so.
	Take string `json:"take,omitempty"`
	// Trust is the authorities to trust from now on; absent: those that it trusts.
	Trust *Trust `json:"trust,omitempty"`
	// Renew: its certificate is to be renewed now, since another authority signs.
	Renew bool `json:"renew,omitempty"`
	// Program is what the proxy is to run from now on; nil: what it runs.
	Program *ProgramOffer `json:"program,omitempty"`
}

// ProgramOffer is a program that a proxy is to run, at GET Prefix+ID/programs/HASH.
type ProgramOffer struct {
	Upgrade   uint   `json:"upgrade"` // number of the upgrade
	Hash      string `json:"hash"`    // SHA-256, in hexadecimal digits
	Size      int64  `json:"size"`    // bytes
	Signature []byte `json:"signature"`
	Chain     string `json:"chain"` // certificates of the node that signed, in PEM
	// Back: the program is bad, and the proxy is to run the one before it again.
	Back bool `json:"back,omitempty"`
}

// UpgradeReport is how a proxy stands to an upgrade.
type UpgradeReport struct {
	Upgrade uint   `json:"upgrade"`
	Back    bool   `json:"back,omitempty"`
	Failed  string `json:"failed,omitempty"` // why it does not run the program; empty: it is at it, or does
}

// Withdrawn is the answer to a withdrawal.
type Withdrawn struct {
	KnownAfterMS int64 `json:"knownAfterMS"` // until other proxies hear of it, in the worst case
}

// Trust is the authorities that members trust.
type Trust struct {
	Domain     string `json:"domain"`
	Generation uint64 `json:"generation"`
	Roots      string `json:"roots"` // certificates in PEM
}

// Join asks for a first certificate, with the secret of a join token or of the join
// file. It is the one message that needs no certificate.
type Join struct {
	Secret  string `json:"secret"`
	Request []byte `json:"request"` // signing request (PKCS #10, DER)
	ID      string `json:"id"`
	Service string `json:"service,omitempty"`
	Version string `json:"version,omitempty"`
	Site    string `json:"site,omitempty"`
	Gateway string `json:"gateway,omitempty"`
	// Crossing is the site of the crossing that joins; Site is the same then.
	Crossing string `json:"crossing,omitempty"`
}

// Renewal asks for the next certificate. Version and site may change within what the
// proxy was granted.
type Renewal struct {
	Request []byte `json:"request"`
	Version string `json:"version,omitempty"`
	Site    string `json:"site,omitempty"`
}

// Joined is the answer to a Join or a Renewal.
type Joined struct {
	Chain string `json:"chain"` // certificates in PEM, the member's own first
	Trust Trust  `json:"trust"`
}

// Snapshot is one line of the stream: what changed since the line before, or
// everything. A line without a sequence is a sign of life.
type Snapshot struct {
	Sequence uint64 `json:"sequence,omitempty"` // to be acknowledged
	Revision uint   `json:"revision,omitempty"` // in force with this line; 0: the rules did not change
	Whole    bool   `json:"whole,omitempty"`    // it is everything; what was known before is forgotten
	Mesh     string `json:"mesh,omitempty"`     // with a whole snapshot, the id of the mesh: see store.Store.Mesh

	Services     []*rules.Service `json:"services,omitempty"` // new or changed
	GoneServices []string         `json:"goneServices,omitempty"`
	// Rest is the rules without services, when any of it changed.
	Rest          *rules.Rules      `json:"rest,omitempty"`
	Instances     []engine.Instance `json:"instances,omitempty"` // new or changed
	GoneInstances []string          `json:"goneInstances,omitempty"`

	// Calls, with a whole snapshot, are the services that the proxy's workload
	// is declared to call; the snapshot holds these alone. Absent: all services.
	Calls []string `json:"calls,omitzero"`
	// Drills are all that run, when any came or went; absent: as before.
	Drills []Drill `json:"drills,omitzero"`
	// Drains are all sites that are drained, when any of it changed; absent: as before.
	Drains []Drain `json:"drains,omitzero"`
	// Watches are all requests for records, when any came or went; absent: as
	// before. They end with the stream.
	Watches []Watch `json:"watches,omitzero"`
	// LetBack are sidelined instances that are to take requests again, since a person said so.
	LetBack []LetBack `json:"letBack,omitempty"`
	// Traced is the share of requests without a trace context that are traced,
	// 0 to 1; absent: as before.
	Traced *float64 `json:"traced,omitempty"`
	// Key, with a whole snapshot, is what the service's own calls show as HeaderAsk.
	Key string `json:"key,omitempty"`
	// Nonce, on the first line of a stream, is what acknowledgements of this stream carry.
	Nonce string `json:"nonce,omitempty"`
	// Settled is false while the service has not run long enough for every
	// proxy to have come back: instances may be missing then, and a proxy keeps
	// those that it knew.
	Settled bool `json:"settled,omitempty"`
}

// Asides tells whether a snapshot has nothing that a table is compiled from.
func (s *Snapshot) Asides() bool {
	return !s.Whole && s.Revision == 0 && s.Rest == nil && s.Drills == nil && s.Drains == nil &&
		len(s.Services)+len(s.GoneServices)+len(s.Instances)+len(s.GoneInstances) == 0 &&
		s.Calls == nil &&
		(s.Watches != nil || s.Traced != nil || s.LetBack != nil)
}

// IsOfInstances tells whether a snapshot tells of instances that came or changed,
// and of nothing else that a table is compiled from.
func (s *Snapshot) IsOfInstances() bool {
	return !s.Whole && s.Revision == 0 && s.Rest == nil && s.Drills == nil && s.Drains == nil && s.Calls == nil &&
		len(s.Services)+len(s.GoneServices)+len(s.GoneInstances) == 0 && len(s.Instances) > 0
}

// LetBack names a sidelined instance.
type LetBack struct {
	Service  string `json:"service"`
	Instance string `json:"instance"`
}

// Drill is a drill with its end, which a proxy keeps to by itself.
type Drill struct {
	engine.Drill
	Ends  time.Time `json:"ends"`
	ForMS int64     `json:"forMS"` // whatever the clock says, it ends so long after it was first heard of
}

// Drain is how much of their shares the instances of a site give away, 0 to 1.
type Drain struct {
	Site   string  `json:"site"`
	Leaves float64 `json:"leaves"`
}

// Leaves are the parts that are given away, by site, within 0 to 1.
func Leaves(list []Drain) map[string]float64 {
	if len(list) == 0 {
		return nil
	}
	out := make(map[string]float64, len(list))
	for _, d := range list {
		out[d.Site] = min(1, max(0, d.Leaves))
	}
	return out
}

// Ack tells that a snapshot is in force in a proxy, or why it cannot be.
type Ack struct {
	Nonce    string `json:"nonce,omitempty"` // of the stream that the snapshot came on
	Sequence uint64 `json:"sequence"`
	Revision uint   `json:"revision"`
	Error    string `json:"error,omitempty"`
}

// Delta is what a proxy counted since its last Delta.
type Delta struct {
	Nonce         string     `json:"nonce"`
	Sequence      uint64     `json:"sequence"` // rises by one; a Delta that comes twice counts once
	Holds         uint64     `json:"holds"`    // oldest Sequence that the proxy could send once more
	Caller        string     `json:"caller"`   // service or gateway whose requests these are
	CallerVersion string     `json:"callerVersion,omitempty"`
	CallerSite    string     `json:"callerSite,omitempty"`
	AgoMS         int64      `json:"agoMS,omitempty"` // how long ago it was counted
	Series        SeriesList `json:"series"`
	Open          []Open     `json:"open,omitempty"` // connections now

	Status []engine.Status `json:"status,omitzero"` // of the guards now; absent: as before

	// Watched are requests to the workload that access rules would have refused.
	Watched []Watched `json:"watched,omitempty"`
	// Unproven are callers that came to the workload without an identity, where that is let in.
	Unproven []Unproven     `json:"unproven,omitempty"`
	Events   []engine.Event `json:"events,omitempty"`
}

// longestName bounds a name, in bytes.
const longestName = 256

// ValidName is a name, or Other instead of one that cannot be shown or exported: proxies
// can report anything.
func ValidName(name string) string {
	if len(name) > longestName || !utf8.ValidString(name) {
		return Other
	}
	return name
}

// Series is the count of requests with one set of names.
type Series struct {
	// App: the requests as the proxy beside the instance saw them, and what the
	// workload itself answered. Caller is who called then, as its proxy said.
	App    bool
	Copy   bool // with App: copies of a mirror, whose answers nobody waits for
	Caller string

	Revision uint   // that the requests followed
	Gate     string // route of the gateway
	Service  string
	Version  string
	Instance string
	Route    string // empty: plain balancing, or none
	RouteOf  string // service whose route it is
	Counts   stats.Counts

	Site string // of the instance; the service adds it
}

// Watched is requests of one caller that an access rule would have refused, and only
// watched.
type Watched struct {
	From     string `json:"from"`           // NAME or gateway/NAME; empty: without identity
	Rule     string `json:"rule,omitempty"` // empty: the default
	Requests uint64 `json:"requests"`
}

// Unproven is what came from one address without an identity.
type Unproven struct {
	Address  string `json:"address"`  // IP address, or Other
	Requests uint64 `json:"requests"` // or TCP connections
}

// Other stands for the names of series past a bound.
const Other = "other"

// Open is how many connections are open to an instance that speaks TCP.
type Open struct {
	Service  string `json:"service"`
	Version  string `json:"version,omitempty"`
	Instance string `json:"instance,omitempty"`
	Count    int64  `json:"count"`
}

// Kept is the answer to a Delta.
type Kept struct {
	// Sequence of the newest Delta of this process that a crash of the service
	// cannot lose any more.
	Sequence uint64 `json:"sequence"`
	// Again: the service lacks a Delta before this one, and did not take it. The
	// proxy is to send all that it holds.
	Again bool `json:"again,omitempty"`
}
