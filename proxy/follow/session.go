package follow

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/core/engine"
	"nightjar/identity"
	"nightjar/proxy/observe"
	"nightjar/proxy/process"
	"nightjar/wire"

	"github.com/cenkalti/backoff/v5"
)

const (
	callTimeout = 5 * time.Second  // of one call to the service
	silence     = 10 * time.Second // a stream that says nothing for so long is dead
	maxSnapshot = 64 << 20         // bytes of one line
	minBackoff  = 50 * time.Millisecond
	maxBackoff  = 3 * time.Second
)

// Session is a proxy's side of the talk with the service. Make one with NewSession.
type Session struct {
	cfg      SessionConfig
	follower *Follower
	client   atomic.Pointer[http.Client]
	base     string

	unacked atomic.Pointer[wire.Ack] // the newest acknowledgement, while the service lacks it

	leasing sync.Mutex // one registration or withdrawal at a time
	isGone  bool       // withdrawn: never register again
	isKnown bool       // it was registered
	again   func()     // ends the stream, so that a whole snapshot comes; nil: there is none

	soon chan struct{} // the registration is to be renewed now

	sending  sync.Mutex // one sender of telemetry at a time
	seq      uint64
	unsent   []unsentDelta
	sent     int       // of unsent, how many the service has and may still lose
	quiet    int       // collections for which the guards had nothing to tell
	wasOpen  bool      // connections were open at the last collection
	taken    time.Time // of the last collection
	others   uint64
	othersAt time.Time // when it was last told that series found no room

	lost uint64          // spans that could not be sent
	ctx  context.Context // of Run
}

// SessionConfig is what a session tells of.
type SessionConfig struct {
	ID            string // of the proxy
	Nonce         string // of this process
	Server        string // URL of the service
	Membership    *Membership
	CallerVersion string
	Log           *slog.Logger
	Recorder      *observe.Recorder
	Registration  func() wire.Registration
	Problems      func() []wire.Problem // those of Registration
	// Outbound is the address where the workload calls others, or that of the
	// gateway; empty: none yet.
	Outbound func() string
	Self     engine.Instance // beside the proxy
	// News adds what happened at the inbound listener since it was last called; nil: nothing
	// can.
	News func(*wire.Delta)
	// Offered is told of the program that the proxy is to run; nil: nobody is.
	Offered func(*wire.ProgramOffer)
	// Taken is called once when another proxy has the name of this one, which has to
	// end then.
	Taken func(error)
}

// errNameTaken means that another proxy is registered by the name of this one.
var errNameTaken = errors.New("the name is taken")

// errNoMember means that the service does not take the certificate.
var errNoMember = errors.New("the service says")

// takenFor is how long a name has to be taken at the start of a proxy: the service
// may not have noticed yet that the process before is gone.
const takenFor = 3 * time.Second

// NewSession makes a session by which a follower is sent snapshots.
func NewSession(cfg SessionConfig, f *Follower) *Session {
	s := &Session{
		cfg:      cfg,
		follower: f,
		soon:     make(chan struct{}, 1),
		base:     cfg.Server + wire.Prefix + url.PathEscape(cfg.ID),
	}
	s.client.Store(s.newClient())
	return s
}

// newClient makes a client without a connection yet.
func (s *Session) newClient() *http.Client {
	cfg := s.cfg.Membership.control.ClientConfig(identity.Name{Kind: identity.Node})
	return &http.Client{Transport: &http.Transport{
		Proxy:               nil,
		MaxIdleConnsPerHost: 4,
		IdleConnTimeout:     time.Minute,
		TLSClientConfig:     cfg,
		TLSHandshakeTimeout: callTimeout,
	}}
}

// newPauses are the pauses between attempts to connect: they grow, and differ from
// proxy to proxy, so that a service that comes back is not called by all at once.
func newPauses() *backoff.ExponentialBackOff {
	b := backoff.ExponentialBackOff{
		InitialInterval:     minBackoff,
		Multiplier:          2,
		RandomizationFactor: 0.5,
		MaxInterval:         maxBackoff,
	}
	b.Reset()
	return &b
}

// Run talks to the service until ctx is done. It comes back after every break,
// with jittered and growing pauses; what is in force stays in force meanwhile.
func (s *Session) Run(ctx context.Context) {
	var helpers sync.WaitGroup
	defer func() { s.client.Load().CloseIdleConnections() }()
	defer helpers.Wait()
	s.ctx = ctx
	helpers.Go(func() { s.count(ctx) })
	helpers.Go(func() { s.share(ctx) })
	helpers.Go(func() { process.Every(ctx, time.Second, func() { s.renewCertificate(ctx) }) })
	helpers.Go(func() { process.EveryOr(ctx, observe.FeedTick, nil, s.tell) })
	pauses := newPauses()
	told := ""
	for start := time.Now(); ctx.Err() == nil; {
		began := time.Now()
		err := s.connect(ctx)
		if errors.Is(err, errNameTaken) && !s.isKnown && time.Since(start) > takenFor {
			s.cfg.Taken(err)
			<-ctx.Done()
		}
		if s.isLeaving() {
			<-ctx.Done()
		}
		if ctx.Err() != nil {
			return
		}
		if time.Since(began) > maxBackoff {
			pauses.Reset()
			told = ""
		}
		s.follower.getStale()
		if err.Error() != told {
			told = err.Error()
			state := "serving by the rules in force"
			if s.follower.Table.Load() == nil {
				state = "there are no rules to serve by yet"
			}
			s.cfg.Log.Warn("no connection to the service; "+state, "revision", s.follower.Revision(), "error", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(pauses.NextBackOff()):
		}
	}
}

// connect registers and follows the snapshots until the stream breaks.
func (s *Session) connect(ctx context.Context) error {
	ctx, end := context.WithCancel(ctx)
	defer end()
	if err := s.cfg.Membership.ensure(ctx); err != nil {
		return err
	}
	var opening sync.WaitGroup // of a second connection, for acknowledgements beside the stream
	opening.Go(func() { s.call(ctx, http.MethodGet, "", nil, nil) })
	lease, err := s.register(ctx)
	opening.Wait()
	if errors.Is(err, errNoMember) || errors.Is(err, identity.ErrUnknown) {
		s.cfg.Membership.rejoin()
	}
	if err != nil {
		return err
	}
	var renewing sync.WaitGroup
	defer renewing.Wait()
	defer end()
	renewing.Go(func() {
		process.EveryOr(ctx, time.Duration(max(lease.Seconds, 1))*time.Second/5, s.soon, func() {
			s.renew(ctx)
			if err := s.acknowledge(ctx); err != nil {
				end()
			}
		})
	})
	s.leasing.Lock()
	s.again = end
	s.leasing.Unlock()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.base+"/snapshots", nil)
	if err != nil {
		return err
	}
	req.Header.Set("Nightjar-Nonce", s.cfg.Nonce)
	alive := time.AfterFunc(silence, end)
	defer alive.Stop()
	resp, err := s.client.Load().Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return said(resp)
	}
	s.sendAgain()
	defer s.follower.cfg.Feed.Set(nil, "") // whoever wanted records asked by this stream
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(make([]byte, 64<<10), maxSnapshot)
	nonce := ""
	s.unacked.Store(nil) // of the stream before
	for lines.Scan() {
		alive.Reset(silence)
		var snap wire.Snapshot
		if err := json.Unmarshal(lines.Bytes(), &snap); err != nil {
			return fmt.Errorf("a snapshot cannot be read: %w", err)
		}
		if snap.Nonce != "" {
			nonce = snap.Nonce
		}
		if snap.Sequence > 0 {
			if err := s.take(ctx, snap, nonce); err != nil {
				return err
			}
		}
	}
	if err := lines.Err(); err != nil {
		return err
	}
	return errors.New("the service ended the stream")
}

// Hasten renews the registration soon, since something in it changed.
func (s *Session) Hasten() {
	select {
	case s.soon <- struct{}{}:
	default:
	}
}

// renew renews the registration.
func (s *Session) renew(ctx context.Context) {
	if _, err := s.register(ctx); err != nil && ctx.Err() == nil {
		s.cfg.Log.Debug("lease not renewed", "error", err)
	}
}

// take puts a snapshot in force and acknowledges it, with the nonce of the stream.
func (s *Session) take(ctx context.Context, snap wire.Snapshot, nonce string) error {
	before, problems := s.cfg.Outbound(), s.cfg.Problems()
	ack := wire.Ack{Nonce: nonce, Sequence: snap.Sequence}
	err := s.follower.apply(snap)
	if errors.Is(err, errAnew) {
		return err // a new stream begins with everything
	}
	if err != nil {
		ack.Error = err.Error()
		s.cfg.Log.Error("a snapshot cannot be put in force", "revision", snap.Revision, "error", err)
		s.follower.getStale()
	} else {
		s.follower.stale.Store(nil)
		s.cfg.Membership.Follow()
		s.follower.getReady()
	}
	ack.Revision = s.follower.Revision()
	// A gateway began to listen, or cannot.
	if s.cfg.Outbound() != before || !slices.Equal(s.cfg.Problems(), problems) {
		if _, err := s.register(ctx); err != nil {
			return err
		}
	}
	s.unacked.Store(&ack)
	return s.acknowledge(ctx)
}

// acknowledge sends the newest acknowledgement, unless the service has it. One that does
// not get there goes out again when the lease is renewed: a service that is overloaded is
// not helped by a stream that starts anew. It fails when the service does not want it.
func (s *Session) acknowledge(ctx context.Context) error {
	ack := s.unacked.Load()
	if ack == nil {
		return nil
	}
	err := s.call(ctx, http.MethodPost, "/acks", ack, nil)
	switch {
	case err == nil:
		s.unacked.CompareAndSwap(ack, nil)
	case errors.As(err, new(refusal)):
		return err
	default:
		s.cfg.Log.Debug("not acknowledged yet", "sequence", ack.Sequence, "error", err)
	}
	return nil
}

func (s *Session) register(ctx context.Context) (wire.Lease, error) {
	s.leasing.Lock()
	defer s.leasing.Unlock()
	var lease wire.Lease
	if s.isGone {
		return lease, errors.New("this proxy is on its way out")
	}
	r := s.cfg.Registration()
	r.Mesh, r.Trusts = s.follower.Mesh(), s.cfg.Membership.Trusts()
	err := s.call(ctx, http.MethodPut, "", r, &lease)
	if err == nil {
		s.heed(lease)
		if lease.Program != nil && s.cfg.Offered != nil {
			s.cfg.Offered(lease.Program)
		}
	}
	s.isKnown = s.isKnown || err == nil
	if err == nil && s.follower.permit(lease.Take) && s.again != nil {
		s.cfg.Log.Warn("following another mesh, or an older state of this one, as a person said", "mesh", lease.Take)
		s.again()
	}
	return lease, err
}

// rotationSpread is over how long proxies spread their new certificates when another
// authority signs, so that the service is not asked by all at once.
const rotationSpread = 3 * time.Second

// heed does what a lease says of certificates.
func (s *Session) heed(lease wire.Lease) {
	m := s.cfg.Membership
	if m.cfg.Token == nil {
		return
	}
	if lease.Trust != nil {
		if err := m.setTrust(*lease.Trust); err != nil {
			s.cfg.Log.Error("the authorities to trust cannot be used", "error", err)
		} else {
			s.Hasten() // so that the service hears of it
		}
	}
	if lease.Renew {
		m.hasten(rotationSpread)
	}
}

// renewCertificate renews the certificate when it is time. The connections that are open
// go on; the next ones show the new one.
func (s *Session) renewCertificate(ctx context.Context) {
	m := s.cfg.Membership
	if m.hasChanged() { // it was renewed elsewhere in this process
		s.client.Swap(s.newClient()).CloseIdleConnections()
		s.Hasten()
	}
	if !m.isDue() || s.isLeaving() {
		return
	}
	before := m.Problem()
	if err := m.renew(ctx, s.client.Load()); err != nil {
		if ctx.Err() == nil && before == "" {
			s.cfg.Log.Warn("the certificate was not renewed; the one that there is stays", "error", err)
			s.Hasten()
		}
	}
}

func (s *Session) isLeaving() bool {
	s.leasing.Lock()
	defer s.leasing.Unlock()
	return s.isGone
}

// Retire leaves the registration to the process that took over.
func (s *Session) Retire() {
	s.leasing.Lock()
	defer s.leasing.Unlock()
	s.isGone = true
}

// Withdraw takes the instance out of the registry, so that others stop calling.
// It tells whether the service heard of it, and how long it takes until others do.
func (s *Session) Withdraw() (known time.Duration, heard bool) {
	s.leasing.Lock()
	defer s.leasing.Unlock()
	s.isGone = true
	ctx, stop := context.WithTimeout(context.Background(), time.Second)
	defer stop()
	var w wire.Withdrawn
	err := s.call(ctx, http.MethodDelete, "?nonce="+s.cfg.Nonce, nil, &w)
	if err != nil {
		s.cfg.Log.Debug("not withdrawn; the lease will run out", "error", err)
	}
	return time.Duration(w.KnownAfterMS) * time.Millisecond, err == nil
}

// call makes one bounded call to the service.
func (s *Session) call(ctx context.Context, method, path string, in, out any) error {
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
	resp, err := s.client.Load().Do(req)
	if err != nil {
		return clearly(err)
	}
	defer resp.Body.Close()
	if resp.StatusCode >= 300 {
		return said(resp)
	}
	if out != nil && resp.StatusCode != http.StatusNoContent {
		return json.NewDecoder(resp.Body).Decode(out)
	}
	_, err = io.Copy(io.Discard, resp.Body)
	return err
}

// Fetch reads a program from the service, by its hash. The caller closes it.
func (s *Session) Fetch(ctx context.Context, hash string) (io.ReadCloser, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.base+"/programs/"+url.PathEscape(hash), nil)
	if err != nil {
		return nil, err
	}
	resp, err := s.client.Load().Do(req)
	if err != nil {
		return nil, clearly(err)
	}
	if resp.StatusCode != http.StatusOK {
		defer resp.Body.Close()
		return nil, said(resp)
	}
	return resp.Body, nil
}

// refusal is an answer of the service that is not what was asked for.
type refusal struct{ error }

func (r refusal) Unwrap() error { return r.error }

// said is what the service answered, as a refusal.
func said(resp *http.Response) error { return refusal{saidBy(resp)} }

func saidBy(resp *http.Response) error {
	b, _ := io.ReadAll(io.LimitReader(resp.Body, 4<<10))
	var p struct{ Detail string }
	if json.Unmarshal(b, &p) == nil && p.Detail != "" {
		if resp.StatusCode == http.StatusConflict {
			return fmt.Errorf("%w: %s", errNameTaken, p.Detail)
		}
		if resp.StatusCode == http.StatusUnauthorized {
			return fmt.Errorf("%w: %s", errNoMember, p.Detail)
		}
		return fmt.Errorf("the service says: %s", p.Detail)
	}
	return fmt.Errorf("the service answered %s", resp.Status)
}

// clearly says what an error of TLS with the service means.
func clearly(err error) error {
	var record tls.RecordHeaderError
	switch {
	case errors.As(err, &record):
		return errors.New("what answers there does not speak TLS: it is not this version's service")
	case errors.Is(err, identity.ErrUnknown):
		return fmt.Errorf("%w: the service has another authority than the mesh that this proxy joined", err)
	}
	return err
}
