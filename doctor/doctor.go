// Package doctor finds out what is wrong with a service, its records and its proxies, from
// facts that others have collected. It does no I/O.
package doctor

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"nightjar/api/model"
	"nightjar/store"
)

// Limits of what is still well.
const (
	leastFree    = 1 << 30          // bytes on the disk of the records
	urgentFree   = 64 << 20         // below it, writes fail soon
	largeLog     = 256 << 20        // bytes of the write-ahead log
	largeRecords = 4 << 30          // bytes of the database
	clockSkew    = 2 * time.Second  // between two machines
	longBehind   = 30 * time.Second // for a proxy
	soonExpired  = 30 * 24 * time.Hour
	lateRenewal  = 4 // a certificate is renewed late when less than 1/lateRenewal of its life is left
	maxNamed     = 5 // names that one finding lists
	manySeries   = 4500
	roundTo      = time.Second
)

// Facts is what was found out. Nil parts could not be.
type Facts struct {
	IsOwn  bool      // the service examines itself
	Now    time.Time // by the clock of this machine
	Server string    // address of the service

	Records     *store.Inspection // of the data directory; nil: it was not looked at
	IsNamed     bool              // somebody named the data directory
	Unreachable string            // why the service does not answer; empty: it does
	NotReady    string            // what it says when it is not ready; empty: it is
	ServiceTime time.Time         // by the clock of the service
	Mesh        *model.Mesh
	Fleet       *model.Fleet
	Authority   *model.Authority
	Newest      *model.Revision // newest revision; nil: none
	Follows     []model.Follow  // bundles that follow a branch
}

// Severities of a finding.
const (
	Problem = model.ExaminationProblem
	Note    = model.ExaminationNote
	Well    = model.ExaminationWell
)

// examination collects findings.
type examination struct {
	*Facts
	model.Examination
}

// Examine finds out what is wrong.
func Examine(f Facts) model.Examination {
	e := &examination{Facts: &f}
	for _, area := range []struct {
		name string
		look func()
	}{
		{"records", e.records}, {"service", e.service}, {"clock", e.clock}, {"proxies", e.proxies},
		{"authority", e.authority}, {"rules", e.rules},
	} {
		before := len(e.Findings)
		area.look()
		for i := before; i < len(e.Findings); i++ {
			e.Findings[i].Area = area.name
		}
	}
	order := []string{Problem, Note, Well}
	slices.SortStableFunc(e.Findings, func(a, b model.ExaminationFinding) int {
		return slices.Index(order, a.Severity) - slices.Index(order, b.Severity)
	})
	for _, one := range e.Findings {
		if one.Severity == Problem {
			e.Problems++
		}
	}
	return e.Examination
}

func (e *examination) problem(do, format string, args ...any) { e.add(Problem, do, format, args...) }
func (e *examination) note(do, format string, args ...any)    { e.add(Note, do, format, args...) }
func (e *examination) well(format string, args ...any)        { e.add(Well, "", format, args...) }

func (e *examination) add(severity, do, format string, args ...any) {
	one := model.ExaminationFinding{Severity: severity, What: fmt.Sprintf(format, args...), Do: do}
	e.Findings = append(e.Findings, one)
}

// mib is bytes in MiB; below 10 with a decimal.
func mib[T int64 | uint64](bytes T) string {
	if n := float64(bytes) / (1 << 20); n < 10 {
		return fmt.Sprintf("%.1f", n)
	}
	return fmt.Sprint(int64(bytes) >> 20)
}

func (e *examination) records() {
	in := e.Records
	switch {
	case in == nil:
		return
	case !in.Exists && e.IsNamed:
		e.problem("Name the directory of the service with --data.", "There is no directory %s.", in.Dir)
		return
	case !in.Exists:
		e.note("Name the directory of the service with --data, on its machine.", "There are no records in %s.", in.Dir)
		return
	case in.Error != "":
		e.problem("Restore a backup into an empty directory: nightjar restore FILE --data DIR.",
			"The database in %s cannot be read: %s.", in.Dir, strings.TrimSuffix(in.Error, "."))
		return
	}
	before := len(e.Findings)
	if in.Mode&0o077 != 0 {
		e.problem(fmt.Sprintf("chmod 700 %s", in.Dir),
			"Others can read %s (mode %o), which has the key of the authority.", in.Dir, in.Mode)
	}
	switch {
	case in.Free < urgentFree:
		e.problem(
			"Make room on the disk at once.",
			"The disk of %s has %s MiB left; writes are about to fail.",
			in.Dir,
			mib(in.Free),
		)
	case in.Free < leastFree:
		e.problem("Make room on the disk, or keep records for a shorter time: nightjar serve --keep.",
			"The disk of %s has %s MiB left.", in.Dir, mib(in.Free))
	}
	if in.Log > largeLog {
		e.problem("End programs that read the database for long, such as a backup that hangs.",
			"The write-ahead log of the database has %s MiB: something keeps it from being merged.", mib(in.Log))
	}
	if in.Database > largeRecords {
		e.note("Keep records for a shorter time: nightjar serve --keep.", "The database has %s MiB.", mib(in.Database))
	}
	if in.HeldBy == "" && e.Unreachable == "" && e.IsNamed {
		e.note("Compare with the line that nightjar serve prints at its start.",
			"No service uses %s, though one answers at %s: these are the records of another one.", in.Dir, e.Server)
	}
	if len(e.Findings) == before {
		e.well("%s: revision %d, database %s MiB, archive %s MiB, %s MiB free.",
			in.Dir, in.About.Revision, mib(in.Database), mib(in.Archive), mib(in.Free))
	}
}

func (e *examination) service() {
	if e.Unreachable != "" {
		e.problem("Start it with nightjar serve, or name another one with --server.",
			"No service answers at %s: %s.", e.Server, strings.TrimSuffix(e.Unreachable, "."))
		return
	}
	if e.NotReady != "" {
		e.problem(
			"Do what it says; the service keeps nothing that it is told until then.",
			"The service is not ready: %s.",
			strings.TrimPrefix(strings.TrimSuffix(strings.TrimSpace(e.NotReady), "."), "not ready: "),
		)
		return
	}
	if m := e.Mesh; m != nil {
		if m.Other > 0 || m.Series > manySeries {
			e.note("Look for names that outsiders choose, such as callers without identity: nightjar links.",
				"%d sets of names have requests, and %d requests were counted without names.", m.Series, m.Other)
		}
		for _, d := range m.Drills {
			e.note("nightjar drill stop "+d.ID, "Drill %s is running: %s, %s.", d.ID, d.Target, d.What)
		}
	}
	e.well("The service at %s answers and is ready.", e.Server)
}

func (e *examination) clock() {
	if e.Unreachable != "" || e.ServiceTime.IsZero() {
		return
	}
	before := len(e.Findings)
	// The header of HTTP has whole seconds.
	if d := e.ServiceTime.Sub(e.Now); d > clockSkew || d < -clockSkew-time.Second {
		e.problem("Synchronise the clocks of both machines.", "The clock of the service is %s %s that of this machine.",
			abs(d).Round(roundTo), aheadOrBehind(d))
	}
	if r := e.Newest; r != nil && r.At.Sub(e.ServiceTime) > clockSkew {
		e.problem(
			"Set the clock of the service right; effects and figures of the time in between are not to be trusted.",
			"Revision %d was published %s from now: the clock of the service was set back.",
			r.Number,
			r.At.Sub(e.ServiceTime).Round(roundTo),
		)
	}
	var ahead []string
	if e.Fleet != nil {
		for _, p := range e.Fleet.Proxies {
			if p.Started.Sub(e.ServiceTime) > clockSkew {
				ahead = append(ahead, p.ID)
			}
		}
	}
	if len(ahead) > 0 {
		e.problem(
			"Synchronise the clocks of their machines.",
			"These proxies started in the future: their clocks are ahead: %s.",
			named(ahead),
		)
	}
	if len(e.Findings) == before {
		whose := "this machine, the service"
		if e.IsOwn {
			whose = "the service"
		}
		e.well("The clocks of %s and the proxies agree.", whose)
	}
}

func abs(d time.Duration) time.Duration { return max(d, -d) }

func aheadOrBehind(d time.Duration) string {
	if d > 0 {
		return "ahead of"
	}
	return "behind"
}

func (e *examination) proxies() {
	if e.Fleet == nil {
		return
	}
	before := len(e.Findings)
	var rejecting, behind, gone, unhealthy, expiring []string
	programs := map[string][]string{}
	for _, p := range e.Fleet.Proxies {
		programs[p.Program] = append(programs[p.Program], p.ID)
		switch {
		case p.State == model.ProxyRejecting:
			rejecting = append(rejecting, p.ID+" ("+p.Rejection+")")
		case p.State == model.ProxyDisconnected || p.State == model.ProxyUnconfirmed:
			gone = append(gone, p.ID)
		case p.State == model.ProxyBehind && time.Duration(p.LagMS)*time.Millisecond > longBehind:
			behind = append(behind, p.ID)
		}
		if p.Unhealthy != "" {
			unhealthy = append(unhealthy, p.ID+" ("+p.Unhealthy+")")
		}
		for _, one := range p.Problems {
			e.problem(
				"nightjar fleet -o wide shows it.",
				"Proxy %s has a problem: %s: %s.",
				p.ID,
				one.Kind,
				strings.TrimSuffix(one.Detail, "."),
			)
		}
		if c := p.Certificate; c != nil && e.Authority != nil && !e.ServiceTime.IsZero() {
			life := time.Duration(e.Authority.LifeSeconds) * time.Second
			if c.Expires.Sub(e.ServiceTime) < life/lateRenewal {
				expiring = append(expiring, p.ID)
			}
		}
	}
	for _, k := range []struct {
		list     []string
		what, do string
	}{
		{rejecting, "These proxies do not follow the service", "If the records were restored from a backup: publish, or run nightjar fleet adopt."},
		{behind, "These proxies have not taken the newest revision for more than 30 s", "Look at their logs, and at the network between them and the service."},
		{gone, "These proxies are known and not connected", "Look at their logs: they serve on by the rules that they have."},
		{unhealthy, "The health checks of these workloads fail", "Look at the workloads."},
		{expiring, "The certificates of these proxies are not renewed in time", "Look at their logs; one whose certificate ran out has to join again."},
	} {
		if len(k.list) > 0 {
			e.problem(k.do, "%s: %s.", k.what, named(k.list))
		}
	}
	if len(programs) > 1 {
		var parts []string
		for program, ids := range programs {
			parts = append(parts, fmt.Sprintf("%s (%d)", program, len(ids)))
		}
		slices.Sort(parts)
		e.note("Upgrade the others when it suits: programs of neighbouring versions work together.",
			"Proxies run different programs: %s.", strings.Join(parts, ", "))
	}
	if len(e.Findings) == before {
		e.well("All %d proxies follow the newest revision.", len(e.Fleet.Proxies))
	}
}

// named lists the first few names.
func named(names []string) string {
	if n := len(names) - maxNamed; n > 0 {
		return fmt.Sprintf("%s and %d others", strings.Join(names[:maxNamed], ", "), n)
	}
	return strings.Join(names, ", ")
}

func (e *examination) authority() {
	a := e.Authority
	if a == nil || e.ServiceTime.IsZero() {
		return
	}
	before := len(e.Findings)
	left := func(t time.Time) string { return t.Sub(e.ServiceTime).Round(time.Hour).String() }
	if a.Signer.Expires.Sub(e.ServiceTime) < soonExpired {
		e.problem("nightjar ca request and install, or nightjar ca rotate.",
			"The certificate that signs those of proxies expires in %s.", left(a.Signer.Expires))
	}
	for _, r := range a.Roots {
		if r.Signs && r.Expires.Sub(e.ServiceTime) < soonExpired {
			e.problem("nightjar ca rotate", "Root %s expires in %s.", r.Name, left(r.Expires))
		}
	}
	if len(a.Waiting) > 0 && e.ServiceTime.Sub(a.Since) > time.Hour {
		e.problem(
			"Start these proxies, or remove them: the authority is not replaced before they have heard of it.",
			"The authority has been %s for %s, and waits for: %s.",
			a.Phase,
			e.ServiceTime.Sub(a.Since).Round(time.Minute),
			named(a.Waiting),
		)
	}
	if len(e.Findings) == before {
		e.well("The authority of %s is %s.", a.Domain, a.Phase)
	}
}

func (e *examination) rules() {
	m := e.Mesh
	if m == nil {
		return
	}
	before := len(e.Findings)
	for _, g := range m.Gateways {
		if !g.IsRunning {
			e.problem("nightjar proxy --gateway "+g.Name, "No proxy serves gateway %s.", g.Name)
		}
	}
	for _, r := range m.Releases {
		if r.State == "held" {
			e.note("nightjar release show "+r.Name, "Release %s is held: %s.", r.Name, strings.TrimSuffix(r.Why, "."))
		}
	}
	for _, w := range m.Warnings[:min(len(m.Warnings), maxNamed)] {
		e.note("nightjar rules check shows all of them.", "%s (%s).", w.Message, w.At)
	}
	for _, u := range m.Unpublished {
		e.note("nightjar rules diff, then nightjar rules publish.", "%s of bundle %s is not what is in force.",
			strings.Join(u.Files, ", "), u.Bundle)
	}
	for _, f := range e.Follows {
		since := f.Since.Local().Format(time.DateTime)
		what := fmt.Sprintf("Bundle %s is %s since %s: %s", f.Bundle, f.State, since, f.Why)
		switch f.State {
		case model.Unreachable, model.Refused:
			e.problem("nightjar follow list shows all of it.", "%s.", strings.TrimRight(what, ".: "))
		case model.Drifted, model.Behind:
			e.note("nightjar follow list shows all of it.", "%s.", strings.TrimRight(what, ".: "))
		}
	}
	if len(e.Findings) == before {
		e.well("The rules of revision %d have no warnings.", m.Revision.Number)
	}
}
