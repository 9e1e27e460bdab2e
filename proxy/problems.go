package proxy

import (
	"context"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"nightjar/proxy/carry"
	"nightjar/proxy/process"
	"nightjar/wire"
)

// problems is what is wrong with a proxy now, by its kind. It is told with the
// registration, and goes when it is mended.
type problems struct {
	mu   sync.Mutex
	list map[string]string // kind → detail
}

// set notes a problem of a kind, or with an empty detail that there is none. It
// tells whether that is news.
func (p *problems) set(kind, detail string) (isNews bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.list[kind] == detail {
		return false
	}
	if p.list == nil {
		p.list = map[string]string{}
	}
	if p.list[kind] = detail; detail == "" {
		delete(p.list, kind)
	}
	return true
}

func (p *problems) all() (out []wire.Problem) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for kind, detail := range p.list {
		out = append(out, wire.Problem{Kind: kind, Detail: detail})
	}
	return out
}

// setProblem notes a problem and tells the service of it soon.
func (p *Proxy) setProblem(kind, detail string) {
	if !p.current.set(kind, detail) {
		return
	}
	if detail == "" {
		p.log.Info("mended", "problem", kind)
	} else {
		p.log.Warn("there is a problem", "problem", kind, "detail", detail)
	}
	p.session.Hasten()
}

// problems are those of now, by kind.
func (p *Proxy) problems() []wire.Problem {
	out := p.current.all()
	if s := p.callers.Shortage(); s != "" {
		out = append(out, wire.Problem{Kind: wire.ProblemConnections, Detail: s})
	}
	if s := p.member.Problem(); s != "" {
		out = append(out, wire.Problem{Kind: wire.ProblemIdentity, Detail: s})
	}
	slices.SortFunc(out, func(a, b wire.Problem) int { return strings.Compare(a.Kind, b.Kind) })
	return out
}

// watchCallers says in the log, and soon to the service, when callers find no room
// for their connections, and when they do again; until ctx is done.
func (p *Proxy) watchCallers(ctx context.Context) {
	isShort := false
	process.Every(ctx, time.Second, func() {
		s := p.callers.Shortage()
		if (s != "") == isShort {
			return
		}
		if isShort = s != ""; isShort {
			p.log.Warn("there is a problem", "problem", wire.ProblemConnections, "detail", s)
		} else {
			p.log.Info("mended", "problem", wire.ProblemConnections)
		}
		p.session.Hasten()
	})
}

// How often the workload is tried while nothing is known of it, or nothing good.
const (
	appTick = 500 * time.Millisecond
	appWait = time.Second
)

// watchApp tells whether the workload beside this proxy can be reached, until ctx
// is done. Requests say so; when none does, and while they say that it cannot be, a
// connection is tried.
func (p *Proxy) watchApp(ctx context.Context, in *carry.Inbound) {
	last := ""
	process.Every(ctx, appTick, func() {
		if !in.IsKnown() || in.Lost() != "" {
			conn, err := (&net.Dialer{Timeout: appWait}).DialContext(ctx, "tcp", in.App.Address)
			if err == nil {
				conn.Close()
			}
			if ctx.Err() == nil {
				in.Tried(err)
			}
		}
		lost := in.Lost()
		if lost == "" || last != "" { // one that starts beside its proxy needs a moment
			p.setProblem(wire.ProblemWorkload, lost)
		}
		last = lost
	})
}
