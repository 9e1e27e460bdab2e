package proxy

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"nightjar/core/engine"
	"nightjar/wire"
)

const (
	callTimeout   = 5 * time.Second  // of one call to the service
	silence       = 10 * time.Second // a stream that says nothing for so long is dead
	maxSnapshot   = 64 << 20         // bytes of one line
	maxBackoff    = 3 * time.Second
	maxUnsent     = 120 // telemetry kept while the service is away, in seconds
	telemetryTick = time.Second
)

// session is a proxy's side of the talk with the service.
type session struct {
	p      *Proxy
	client *http.Client
	base   string

	leasing sync.Mutex // one registration or withdrawal at a time
	left    bool       // withdrawn: never register again

	haste chan struct{} // the registration is to be renewed now

	sending sync.Mutex // one sender of telemetry at a time
	seq     uint64
	unsent  []unsentDelta
	sent    int  // of unsent, how many the service has and may still lose
	calm    int  // collections for which the guards had nothing to tell
	opened  bool // connections were open at the last collection
	talk    context.Context
	lost    uint64 // spans that could not be sent
}

type unsentDelta struct {
	at    time.Time
	delta wire.Delta
}

func newSession(p *Proxy) *session {
	return &session{p: p, haste: make(chan struct{}, 1), base: strings.TrimSuffix(p.cfg.Server, "/") + wire.Prefix + url.PathEscape(p.cfg.ID),
		client: &http.Client{Transport: &http.Transport{Proxy: nil, MaxIdleConnsPerHost: 4, IdleConnTimeout: time.Minute}}}
}

// run talks to the service until ctx is done. It comes back after every break,
// with jittered and growing pauses; what is in force stays in force meanwhile.
func (s *session) run(ctx context.Context) {
	var helpers sync.WaitGroup
	defer s.client.CloseIdleConnections()
	defer helpers.Wait()
	s.talk = ctx
	helpers.Go(func() {
		every(ctx, telemetryTick, func() {
			s.collect()
			s.flush()
		})
	})
	helpers.Go(func() { every(ctx, feedTick, s.tell) })
	pause := 50 * time.Millisecond
	told := ""
	for ctx.Err() == nil {
		began := time.Now()
		err := s.connect(ctx)
		if s.leaving() {
			<-ctx.Done()
		}
		if ctx.Err() != nil {
			return
		}
		if time.Since(began) > maxBackoff {
			pause, told = 50*time.Millisecond, ""
		}
		if s.p.force.Load().known && s.p.StaleSince().IsZero() {
			now := time.Now()
			s.p.stale.Store(&now)
		}
		if err.Error() != told {
			told = err.Error()
			state := "serving by the rules in force"
			if !s.p.force.Load().known {
				state = "there are no rules to serve by yet"
			}
			s.p.log.Warn("no connection to the service; "+state, "revision", s.p.Revision(), "error", err)
		}
		wait := time.Duration(rand.Int64N(int64(pause))) + pause/2
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
		pause = min(pause*2, maxBackoff)
	}
}

// every calls do at each tick until ctx is done.
func every(ctx context.Context, tick time.Duration, do func()) { everyOr(ctx, tick, nil, do) }

// everyOr calls do at each tick, and whenever now says so, until ctx is done.
func everyOr(ctx context.Context, tick time.Duration, now <-chan struct{}, do func()) {
	t := time.NewTicker(tick)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-now:
		case <-t.C:
		}
		do()
	}
}

// connect registers and follows the snapshots until the stream breaks.
func (s *session) connect(ctx context.Context) error {
	ctx, end := context.WithCancel(ctx)
	defer end()
	lease, err := s.register(ctx)
	if err != nil {
		return err
	}
	var renewing sync.WaitGroup
	defer renewing.Wait()
	defer end()
	renewing.Go(func() {
		everyOr(ctx, time.Duration(max(lease.Seconds, 1))*time.Second/5, s.haste, func() { s.renew(ctx) })
	})
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.base+"/snapshots", nil)
	if err != nil {
		return err
	}
	req.Header.Set("Nightjar-Nonce", s.p.nonce)
	s.authorize(req)
	alive := time.AfterFunc(silence, end)
	defer alive.Stop()
	resp, err := s.client.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return said(resp)
	}
	s.sendAgain()
	defer s.p.feed.set(nil, "") // whoever wanted records asked by this stream
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(make([]byte, 64<<10), maxSnapshot)
	for lines.Scan() {
		alive.Reset(silence)
		var snap wire.Snapshot
		if err := json.Unmarshal(lines.Bytes(), &snap); err != nil {
			return fmt.Errorf("a snapshot cannot be read: %w", err)
		}
		if snap.Sequence > 0 {
			if err := s.take(ctx, snap); err != nil {
				return err
			}
		}
	}
	if err := lines.Err(); err != nil {
		return err
	}
	return errors.New("the service ended the stream")
}

// hasten renews the registration soon, since something in it changed.
func (s *session) hasten() {
	select {
	case s.haste <- struct{}{}:
	default:
	}
}

// renew renews the registration.
func (s *session) renew(ctx context.Context) {
	s.p.mu.Lock()
	if err := s.p.openEdge(); err != nil {
		s.p.log.Warn("still not listening", "error", err)
	}
	s.p.mu.Unlock()
	if _, err := s.register(ctx); err != nil && ctx.Err() == nil {
		s.p.log.Debug("lease not renewed", "error", err)
	}
}

// take puts a snapshot in force and acknowledges it.
func (s *session) take(ctx context.Context, snap wire.Snapshot) error {
	before := s.p.Outbound()
	ack := wire.Ack{Sequence: snap.Sequence}
	if err := s.p.apply(snap); err != nil {
		ack.Error = err.Error()
		s.p.log.Error("a snapshot cannot be put in force", "revision", snap.Revision, "error", err)
	} else {
		s.p.stale.Store(nil)
		s.p.getReady()
	}
	ack.Revision = s.p.Revision()
	if s.p.Outbound() != before { // a gateway began to listen
		if _, err := s.register(ctx); err != nil {
			return err
		}
	}
	return s.call(ctx, http.MethodPost, "/acks", ack, nil)
}

func (s *session) register(ctx context.Context) (wire.Lease, error) {
	s.leasing.Lock()
	defer s.leasing.Unlock()
	var lease wire.Lease
	if s.left {
		return lease, errors.New("this proxy is on its way out")
	}
	err := s.call(ctx, http.MethodPut, "", s.p.registration(), &lease)
	return lease, err
}

func (s *session) leaving() bool {
	s.leasing.Lock()
	defer s.leasing.Unlock()
	return s.left
}

// retire leaves the registration to the process that took over.
func (s *session) retire() {
	s.leasing.Lock()
	defer s.leasing.Unlock()
	s.left = true
}

// withdraw takes the instance out of the registry, so that others stop calling.
// It tells whether the service heard of it.
func (s *session) withdraw() bool {
	s.leasing.Lock()
	defer s.leasing.Unlock()
	s.left = true
	ctx, stop := context.WithTimeout(context.Background(), time.Second)
	defer stop()
	err := s.call(ctx, http.MethodDelete, "?nonce="+s.p.nonce, nil, nil)
	if err != nil {
		s.p.log.Debug("not withdrawn; the lease will run out", "error", err)
	}
	return err == nil
}

// collect keeps what was counted since the last time, and drops the oldest
// when too much is kept.
func (s *session) collect() {
	s.sending.Lock()
	defer s.sending.Unlock()
	d := wire.Delta{Nonce: s.p.nonce, Caller: s.p.carrier.caller, CallerVersion: s.p.cfg.Version}
	d.Series, d.Open = s.p.recorder.collect(s.p.self())
	s.guards(&d)
	if len(d.Series) == 0 && len(d.Open) == 0 && !s.opened && d.Status == nil && len(d.Events) == 0 {
		return
	}
	s.opened = len(d.Open) > 0 // that none is open any more is news too
	s.seq++
	d.Sequence = s.seq
	for i := range s.unsent { // what they say of the guards is no news any more
		s.unsent[i].delta.Status = nil
	}
	s.unsent = append(s.unsent, unsentDelta{time.Now(), d})
	s.forget(len(s.unsent) - maxUnsent)
}

// forget drops the n oldest of what is kept.
func (s *session) forget(n int) {
	if n > 0 {
		s.unsent = append(s.unsent[:0], s.unsent[n:]...)
		s.sent = max(s.sent-n, 0)
	}
}

// stillTold is after how many quiet seconds the guards are told of once more.
const stillTold = 5

// guards adds how the guards stand, every second while one of them acts.
func (s *session) guards(d *wire.Delta) {
	table, now := s.p.force.Load().table, s.p.carrier.now()
	d.Events = table.Events(now)
	status := table.Status(now)
	if s.calm++; len(d.Series) > 0 || len(d.Events) > 0 || slices.ContainsFunc(status, engine.Status.Acts) {
		s.calm = 0
	}
	if s.calm%stillTold == 0 && (len(status) > 0 || len(d.Events) > 0) {
		d.Status = status
	}
}

// sendAgain sends once more what the service may have lost, since it may be
// another process now. What it has it passes over.
func (s *session) sendAgain() {
	s.sending.Lock()
	defer s.sending.Unlock()
	s.sent = 0
}

// flush sends what was not sent yet, oldest first. What was sent is kept until
// the service says that it cannot lose it any more; a service that comes back
// without it asks for it again.
func (s *session) flush() {
	s.sending.Lock()
	defer s.sending.Unlock()
	asked := false
	for s.sent < len(s.unsent) {
		u := &s.unsent[s.sent]
		u.delta.AgoMS, u.delta.Holds = time.Since(u.at).Milliseconds(), s.unsent[0].delta.Sequence
		var kept wire.Kept
		if s.call(context.Background(), http.MethodPost, "/telemetry", u.delta, &kept) != nil {
			return
		}
		if kept.Again {
			if asked { // it asked already, and has been sent all there is
				return
			}
			s.sent, asked = 0, true
			continue
		}
		s.sent++
		safe := 0
		for safe < s.sent && s.unsent[safe].delta.Sequence <= kept.Sequence {
			safe++
		}
		s.forget(safe)
	}
}

// call makes one bounded call to the service.
func (s *session) call(ctx context.Context, method, path string, in, out any) error {
	ctx, stop := context.WithTimeout(ctx, callTimeout)
	defer stop()
	var body io.Reader
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(b)
	}
	req, err := http.NewRequestWithContext(ctx, method, s.base+path, body)
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	s.authorize(req)
	resp, err := s.client.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if resp.StatusCode >= 300 {
		return said(resp)
	}
	if out != nil {
		return json.NewDecoder(resp.Body).Decode(out)
	}
	_, err = io.Copy(io.Discard, resp.Body)
	return err
}

// authorize shows the service the token.
func (s *session) authorize(req *http.Request) {
	if s.p.cfg.Token != "" {
		req.Header.Set("Authorization", "Bearer "+s.p.cfg.Token)
	}
}

// said is what the service answered, as an error.
func said(resp *http.Response) error {
	b, _ := io.ReadAll(io.LimitReader(resp.Body, 4<<10))
	var p struct{ Detail string }
	if json.Unmarshal(b, &p) == nil && p.Detail != "" {
		return fmt.Errorf("the service says: %s", p.Detail)
	}
	return fmt.Errorf("the service answered %s", resp.Status)
}
