// Package health asks workloads how they are, as the rules say.
package health

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/core/engine"
	"nightjar/core/guard"
	"nightjar/core/rules"
	"nightjar/proxy/process"
)

// A check waits for its answer as long as the next check is away, and this at most.
const checkTimeout = 5 * time.Second

// followTick is how soon checks follow the rules.
const followTick = time.Second

// Checks asks workloads how they are, as the rules say: the one beside a proxy,
// whose state the proxy tells with its registration, and the instances outside
// the mesh that it may call, for itself.
type Checks struct {
	Service string               // of the workload beside the proxy; empty: there is none
	App     string               // host:port of that workload; empty: it takes no calls
	Table   func() *engine.Table // what requests follow; nil: no rules have come
	Now     func() time.Duration // since the epoch of the table's times
	// To is the way to an instance, by which it has an address of its own for net/http, and
	// Dial opens connections of TCP.
	To        func(to *engine.Instance, isHTTP2 bool) http.RoundTripper
	Addressed func(to *engine.Instance, path, query string, force bool) *url.URL
	Dial      func(ctx context.Context, address string) (net.Conn, error)
	Log       *slog.Logger
	Changed   func() // the state of the workload did; see Down

	running map[string]*check
	down    atomic.Pointer[string] // why the workload is; nil or empty: it is not
}

// Down is why the health checks of the workload beside the proxy fail; empty: they
// do not.
func (c *Checks) Down() string {
	if why := c.down.Load(); why != nil {
		return *why
	}
	return ""
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

// Run follows the rules until ctx is done.
func (c *Checks) Run(ctx context.Context) {
	c.running = map[string]*check{}
	defer func() {
		for _, k := range c.running {
			k.end()
			k.ended.Wait()
		}
	}()
	process.Every(ctx, followTick, func() { c.follow(ctx) })
}

// follow begins and ends checks, so that they are those that the rules in force
// ask for.
func (c *Checks) follow(ctx context.Context) {
	table := c.Table()
	if table == nil {
		return
	}
	wanted := table.Checks(c.Service, c.Now())
	if wanted.Own == nil && wanted.Outside == nil && len(c.running) == 0 {
		return
	}
	if own := wanted.Own; own != nil && c.App != "" {
		c.keep(ctx, c.App, own, wanted.Protocol, &engine.Instance{Address: c.App}, func(why string) {
			if c.down.Store(&why); why == "" {
				c.Log.Info("the health checks of the workload pass again")
			} else {
				c.Log.Warn("the health checks of the workload fail", "check", own.Path, "why", why)
			}
			c.Changed()
		})
	}
	known := map[string]bool{c.App: wanted.Own != nil && c.App != ""}
	for _, o := range wanted.Outside {
		known[o.Instance.ID] = true
		c.keep(ctx, o.Instance.ID, o.Rule, o.Protocol, o.Instance, func(why string) {
			c.Table().Checked(o.Instance, why != "", c.Now())
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
func (c *Checks) keep(
	ctx context.Context,
	name string,
	rule *rules.Health,
	protocol string,
	to *engine.Instance,
	tell func(why string),
) {
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
		process.Every(ctx, rule.Every, look)
	})
}

// ask makes one check.
func (c *Checks) ask(ctx context.Context, rule *rules.Health, protocol string, to *engine.Instance) error {
	limit := min(rule.Every, checkTimeout)
	ctx, stop := context.WithTimeout(ctx, limit)
	defer stop()
	err := c.asked(ctx, rule.Path, protocol, to)
	if errors.Is(err, context.DeadlineExceeded) {
		return fmt.Errorf("%s did not answer within %s", rule.Path, limit)
	}
	return err
}

func (c *Checks) asked(ctx context.Context, path, protocol string, to *engine.Instance) error {
	if protocol == "tcp" { // that it takes connections is all that can be told
		conn, err := c.Dial(ctx, to.Address)
		if err == nil {
			conn.Close()
		}
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+to.Address, nil)
	if err != nil {
		return err
	}
	r.URL = c.Addressed(to, path, "", false)
	r.Header.Set("User-Agent", "nightjar-health")
	if protocol == "grpc" {
		// An empty message to the method; for that of gRPC's own health service it
		// means the server as a whole (gRPC, "GRPC Health Checking Protocol").
		r.Method, r.Body, r.ContentLength = http.MethodPost, io.NopCloser(bytes.NewReader(make([]byte, 5))), 5
		r.Header.Set("Content-Type", "application/grpc")
		r.Header.Set("Te", "trailers")
	}
	answer, err := c.To(to, rules.SpeaksHTTP2(protocol)).RoundTrip(r)
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
