package carry

import (
	"context"
	"crypto/tls"
	"net"
	"net/http"
	"sync/atomic"
	"time"

	"nightjar/core/engine"
	"nightjar/proxy/observe"
)

// tcpView is what the engine sees of a connection: who calls.
type tcpView struct {
	engine.Nobody
	r *Router
}

func (v tcpView) Method() string         { return "" }
func (v tcpView) Host() string           { return v.r.Service }
func (v tcpView) Path() string           { return "/" }
func (v tcpView) Query() string          { return "" }
func (v tcpView) Header(string) []string { return nil }
func (v tcpView) Caller() string         { return v.r.Hop.Caller }
func (v tcpView) Site() string           { return v.r.Site }

// RelayTo makes a listener carry the connections of a router's service, which
// speaks TCP, for as long as speaksTCP says that it does.
func (l *Listener) RelayTo(r *Router, speaksTCP func() bool) {
	l.Relay = func() func(net.Conn, *member) {
		if !speaksTCP() {
			return nil
		}
		return func(conn net.Conn, _ *member) { (&relayed{listener: l, router: r, conn: conn}).carry() }
	}
}

// relayed is one connection to a service that speaks TCP. It counts as one
// request, whose time is what connecting takes.
type relayed struct {
	listener *Listener
	router   *Router
	conn     net.Conn
	life     lifetime
	watch    callerWatch
	x        engine.Exchange
	began    time.Duration
	revision uint
	there    net.Conn // the connection to the instance; nil: none yet
	alarm
}

func (t *relayed) carry() {
	defer t.conn.Close()
	table := t.router.Table.Load()
	if table == nil {
		return
	}
	t.alarm, t.began, t.revision = newAlarm(), t.router.now(), table.Revision()
	if raw, err := t.conn.(*net.TCPConn).SyscallConn(); err == nil {
		t.watch.start(raw, false, func() { t.life.endRequest(errCallerLeft) })
	}
	ending := engine.Left
	defer func() { t.x.End(ending, t.router.now()) }()
	step := t.x.Begin(
		table,
		engine.Entry{Service: t.router.Service, From: t.router.Party, Wake: t.waker},
		tcpView{r: t.router},
		t.began,
	)
	for t.life.ended() == nil {
		switch step.Kind {
		case engine.Attempt:
			o := t.dial(step)
			if t.life.ended() != nil { // what became of the dial says nothing then
				continue
			}
			step = t.x.Next(o, t.router.now())
		case engine.Wait:
			t.wait(step.Deadline - t.router.now())
			step = t.x.Next(engine.Outcome{}, t.router.now())
		case engine.Done:
			t.unwatch()
			ending = engine.Finished
			t.over(engine.OK, "", "").Stream(func(sent, received *atomic.Uint64) {
				t.listener.tunnels.join(t.conn, t.there, sent, received)
			})
			return
		default:
			t.unwatch()
			t.close()
			t.over(engine.Classify(step.Reason, step.Status), step.Reason, step.Detail)
			t.listener.Log.Debug("a connection was refused", "service", t.router.Service,
				"reason", step.Reason, "detail", step.Detail)
			return
		}
	}
	t.unwatch()
	t.close()
	if t.life.ended() == errDraining {
		t.over(engine.Refused, engine.Draining, "this proxy ends, and the connection was still waiting")
		return
	}
	t.over(engine.Abandoned, "", "")
}

// unwatch ends the watch before the connection is read.
func (t *relayed) unwatch() {
	t.life.onEnd(nil)
	t.watch.stop(func() { t.conn.SetReadDeadline(time.Unix(1, 0)) })
	t.conn.SetReadDeadline(time.Time{})
}

func (t *relayed) close() {
	if t.there != nil {
		t.there.Close()
		t.there = nil
	}
}

// dial carries an attempt out.
func (t *relayed) dial(step engine.Step) engine.Outcome {
	t.close()
	ctx, cancel := context.WithTimeout(context.Background(), min(step.Deadline-t.router.now(), dialTimeout))
	defer cancel()
	t.life.onEnd(func(error) { cancel() })
	defer t.life.onEnd(nil)
	var c net.Conn
	var err error
	if in := step.Instance; in.Mutual {
		c, err = t.listener.Pools.members().dial(ctx, placeOf(in))
	} else {
		out := t.listener.Pools.Outside
		if c, err = out.Dial(ctx, in.Address); err == nil && in.Secure {
			c, err = out.Secure(ctx, c, in.Service, in.Address)
		}
	}
	if err != nil {
		o := outcomeOf(err)
		o.IsUnsent = true
		return o
	}
	t.there = c
	return engine.Outcome{Status: http.StatusOK}
}

// wait waits for d, until it is woken, or until the caller leaves or the proxy
// has no more time.
func (t *relayed) wait(d time.Duration) {
	timer := time.NewTimer(d)
	defer timer.Stop()
	t.life.onEnd(t.ender)
	defer t.life.onEnd(nil)
	select {
	case <-timer.C:
	case <-t.woken:
	case <-t.listener.closed:
		t.life.endRequest(errDraining)
	}
}

// over tells the observer that the connection was carried, or that it was not.
func (t *relayed) over(class engine.Class, reason engine.Reason, detail string) *observe.Cell {
	q := observe.Request{View: tcpView{r: t.router}, Exchange: &t.x, Revision: t.revision, Began: t.began}
	q.Class, q.Reason, q.Detail, q.Took = class, reason, detail, t.router.now()-t.began
	t.router.Observe.Over(nil, &q, &observe.Trace{})
	return t.listener.Recorder.Assign().Called(&t.x, t.revision, &q.Result)
}

// RelayToApp makes a listener carry connections to the workload beside it, for as
// long as speaksTCP says that it speaks TCP.
func (l *Listener) RelayToApp(in *Inbound, speaksTCP func() bool) {
	turnAway := func(who string) {
		l.Recorder.Assign().Served(who, false, &observe.Result{Class: turnedAway, Reason: engine.Denied})
	}
	relay := func(conn net.Conn, peer *member) {
		began := in.now()
		who := ""
		switch {
		case peer != nil:
			who = peer.Name.Name
		case in.requiresIdentity():
			in.Identity.Handshakes.NoIdentity(conn.RemoteAddr().String(), "")
			turnAway(who)
			conn.Close()
			return
		}
		if v := in.admit(peer, nil); v.Denied {
			if turnAway(who); peer == nil {
				in.Identity.notLetIn(conn.RemoteAddr().String(), "")
			}
			breakOff(conn)
			return
		}
		if peer == nil {
			in.Identity.letIn(conn.RemoteAddr().String())
		}
		app, err := net.DialTimeout("tcp", in.App.Address, dialTimeout)
		r := observe.Result{Class: engine.OK, Took: in.now() - began}
		if err != nil {
			o := outcomeOf(err)
			in.miss(o)
			r.Reason = o.Reason
			r.Class = engine.Classify(o.Reason, 0)
		} else {
			in.reached()
		}
		cell := l.Recorder.Assign().Served(who, false, &r)
		if err != nil {
			l.Log.Debug("the workload cannot be reached", "app", in.App.Address, "error", err)
			breakOff(conn) // the caller is to see a broken connection, not an empty answer
			return
		}
		cell.Stream(func(sent, received *atomic.Uint64) { l.tunnels.join(conn, app, sent, received) })
	}
	l.Relay = func() func(net.Conn, *member) {
		if speaksTCP() {
			return relay
		}
		return nil
	}
}

// breakOff closes a connection so that its other end sees that it broke.
func breakOff(conn net.Conn) {
	if t, ok := conn.(*tls.Conn); ok {
		conn = t.NetConn()
	}
	if t, ok := conn.(*net.TCPConn); ok {
		t.SetLinger(0)
	}
	conn.Close()
}
