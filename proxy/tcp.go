package proxy

import (
	"context"
	"net"
	"net/http"
	"time"

	"nightjar/core/engine"
)

// tcp carries connections of a service that speaks TCP.
type tcp struct {
	*carrier
	service string
	port    *port
}

// tcpView is what the engine sees of a connection: who calls.
type tcpView struct{ t *tcp }

func (v tcpView) Method() string         { return "" }
func (v tcpView) Host() string           { return v.t.service }
func (v tcpView) Path() string           { return "/" }
func (v tcpView) Query() string          { return "" }
func (v tcpView) Header(string) []string { return nil }
func (v tcpView) Caller() string         { return v.t.caller }
func (v tcpView) Site() string           { return v.t.site }

// relay carries one connection. It counts as one request, whose time is what
// connecting takes.
func (t *tcp) relay(conn *net.TCPConn) {
	defer conn.Close()
	shard := t.recorder.assign()
	force := t.force.Load()
	var x engine.Exchange
	alarm := newAlarm()
	begun := t.now()
	step := x.Begin(force.table, engine.Entry{Service: t.service, Wake: alarm.waker}, tcpView{t}, begun)
	var there net.Conn
	defer func() { x.End(false, t.now()) }()
	over := func(class engine.Class, reason engine.Reason, detail string) *cell {
		r := result{class: class, reason: reason, detail: detail, took: t.now() - begun}
		c := shard.called(&x, force.revision, &r)
		t.requests.note(t.carrier, &tracing{}, tcpView{t}, &x, force.revision, &r)
		t.offer(&tracing{}, tcpView{t}, &x, force.revision, begun, &r)
		return c
	}
	for {
		switch step.Kind {
		case engine.Attempt:
			ctx, cancel := context.WithTimeout(context.Background(), min(step.Deadline-t.now(), dialTimeout))
			c, err := (&net.Dialer{}).DialContext(ctx, "tcp", step.Instance.Address)
			cancel()
			o := engine.Outcome{Status: http.StatusOK}
			if err != nil {
				o = outcome(err, nil)
			}
			if there = nil; c != nil {
				there = c
			}
			step = x.Next(o, t.now())
		case engine.Wait:
			select {
			case <-time.After(step.Deadline - t.now()):
			case <-alarm.woken:
			case <-t.port.closed:
				return
			}
			step = x.Next(engine.Outcome{}, t.now())
		case engine.Done:
			c := over(engine.OK, "", "")
			c.open.Add(1)
			t.port.tunnels.join(conn, there, &c.sent, &c.received)
			c.open.Add(-1)
			return
		default:
			if there != nil {
				there.Close()
			}
			over(engine.Classify(step.Reason, step.Status), step.Reason, step.Detail)
			t.port.log.Debug("a connection was refused", "service", t.service, "reason", step.Reason, "detail", step.Detail)
			return
		}
	}
}

// toApp carries a connection to a workload that speaks TCP.
func (p *Proxy) toApp(conn *net.TCPConn) {
	shard, begun := p.recorder.assign(), p.carrier.now()
	app, err := net.DialTimeout("tcp", p.cfg.App, dialTimeout)
	r := result{class: engine.OK, took: p.carrier.now() - begun}
	if err != nil {
		r.class, r.reason = engine.Failed, engine.Unreachable
	}
	c := shard.served("", false, &r)
	if err != nil {
		p.log.Debug("the workload cannot be reached", "app", p.cfg.App, "error", err)
		conn.SetLinger(0) // the caller is to see a broken connection, not an empty answer
		conn.Close()
		return
	}
	c.open.Add(1)
	p.inbound.tunnels.join(conn, app, &c.sent, &c.received)
	c.open.Add(-1)
}
