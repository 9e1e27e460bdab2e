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
			shard.record(&x, force.revision, x.Instance(), engine.OK, "", 0, t.now()-begun)
			t.port.tunnels.join(conn, there)
			return
		default:
			if there != nil {
				there.Close()
			}
			shard.record(&x, force.revision, x.Instance(), engine.Classify(step.Reason, step.Status), step.Reason, 0, t.now()-begun)
			t.port.log.Debug("a connection was refused", "service", t.service, "reason", step.Reason, "detail", step.Detail)
			return
		}
	}
}

// toApp carries a connection to a workload that speaks TCP.
func (p *Proxy) toApp(conn *net.TCPConn) {
	app, err := net.DialTimeout("tcp", p.cfg.App, dialTimeout)
	if err != nil {
		p.log.Debug("the workload cannot be reached", "app", p.cfg.App, "error", err)
		conn.SetLinger(0) // the caller is to see a broken connection, not an empty answer
		conn.Close()
		return
	}
	p.inbound.tunnels.join(conn, app)
}
