package proxy

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"sync"
	"time"

	"nightjar/core/engine"
	"nightjar/core/guard"
	"nightjar/core/rules"
)

// A check waits for its answer as long as the next check is away, and this at most.
const checkTimeout = 5 * time.Second

// followTick is how soon checks follow the rules.
const followTick = time.Second

// checks asks workloads how they are, as the rules say: the one beside this
// proxy, whose state the proxy tells with its registration, and the instances
// outside the mesh that it may call, for itself.
type checks struct {
	p       *Proxy
	changed func() // the workload's state did
	running map[string]*check
}

// check is the checking of one address.
type check struct {
	rule   rules.Health
	speaks string // protocol
	end    context.CancelFunc
	ended  sync.WaitGroup
	health guard.Health
	tell   func(why string) // why it is down; empty: it is up again
}

// run follows the rules until ctx is done.
func (c *checks) run(ctx context.Context) {
	c.running = map[string]*check{}
	defer func() {
		for _, k := range c.running {
			k.end()
			k.ended.Wait()
		}
	}()
	every(ctx, followTick, func() { c.follow(ctx) })
}

// follow begins and ends checks, so that they are those that the rules in force
// ask for.
func (c *checks) follow(ctx context.Context) {
	wanted := c.p.force.Load().table.Checks(c.p.cfg.Service, c.p.carrier.now())
	if wanted.Own == nil && wanted.Outside == nil && len(c.running) == 0 {
		return
	}
	if own := wanted.Own; own != nil && c.p.inbound != nil {
		c.keep(ctx, c.p.cfg.App, own, wanted.Protocol, &engine.Instance{Address: c.p.cfg.App}, func(why string) {
			if c.p.unwell.Store(&why); why == "" {
				c.p.log.Info("the workload is well again")
			} else {
				c.p.log.Warn("the workload is unwell", "check", own.Path, "why", why)
			}
			c.changed()
		})
	}
	known := map[string]bool{c.p.cfg.App: wanted.Own != nil && c.p.inbound != nil}
	for _, o := range wanted.Outside {
		known[o.Instance.ID] = true
		c.keep(ctx, o.Instance.ID, o.Rule, o.Protocol, o.Instance, func(why string) {
			c.p.force.Load().table.Checked(o.Instance, why != "", c.p.carrier.now())
		})
	}
	for name, k := range c.running {
		if !known[name] {
			k.end()
			k.ended.Wait()
			if delete(c.running, name); k.health.Down { // nobody knows any more
				k.tell("")
			}
		}
	}
}

// keep sees that an address is checked by that rule.
func (c *checks) keep(ctx context.Context, name string, rule *rules.Health, protocol string, to *engine.Instance, tell func(why string)) {
	old := c.running[name]
	if old != nil && old.rule == *rule && old.speaks == protocol {
		return
	}
	k := &check{rule: *rule, speaks: protocol, tell: tell}
	if old != nil {
		old.end()
		old.ended.Wait()
		k.health = old.health
	}
	c.running[name] = k
	ctx, k.end = context.WithCancel(ctx)
	k.ended.Go(func() {
		look := func() {
			err := c.ask(ctx, rule, protocol, to)
			if ctx.Err() == nil && k.health.Note(&k.rule, err == nil) {
				why := ""
				if k.health.Down {
					why = err.Error()
				}
				tell(why)
			}
		}
		look()
		every(ctx, rule.Every, look)
	})
}

// ask makes one check.
func (c *checks) ask(ctx context.Context, rule *rules.Health, protocol string, to *engine.Instance) error {
	limit := min(rule.Every, checkTimeout)
	ctx, stop := context.WithTimeout(ctx, limit)
	defer stop()
	err := c.asked(ctx, rule.Path, protocol, to)
	if errors.Is(err, context.DeadlineExceeded) {
		return fmt.Errorf("%s did not answer within %s", rule.Path, limit)
	}
	return err
}

func (c *checks) asked(ctx context.Context, path, protocol string, to *engine.Instance) error {
	if protocol == "tcp" { // that it takes connections is all that can be told
		conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", to.Address)
		if err == nil {
			conn.Close()
		}
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, target(to, path, "", false).String(), nil)
	if err != nil {
		return err
	}
	r.URL = target(to, path, "", false)
	r.Header.Set("User-Agent", "nightjar-health")
	transport := c.p.transport.http1
	if protocol == "grpc" {
		// An empty message to the method; for that of gRPC's own health service it
		// means the server as a whole (gRPC, "GRPC Health Checking Protocol").
		transport = c.p.transport.http2
		r.Method, r.Body, r.ContentLength = http.MethodPost, io.NopCloser(bytes.NewReader(make([]byte, 5))), 5
		r.Header.Set("Content-Type", "application/grpc")
		r.Header.Set("Te", "trailers")
	}
	answer, err := transport.RoundTrip(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	body, err := io.ReadAll(io.LimitReader(answer.Body, 64<<10))
	if err != nil {
		return err
	}
	if answer.StatusCode < 200 || answer.StatusCode > 399 {
		return fmt.Errorf("%s answered %d", path, answer.StatusCode)
	}
	if protocol != "grpc" {
		return nil
	}
	status := answer.Trailer.Get("Grpc-Status")
	if status == "" {
		status = answer.Header.Get("Grpc-Status")
	}
	switch {
	case status != "0":
		return fmt.Errorf("%s answered with status %s of gRPC", path, status)
	case len(body) == 7 && body[5] == 0x08 && body[6] != 1: // field 1, a number: 1 is SERVING
		return fmt.Errorf("%s says that it does not serve", path)
	}
	return nil
}
