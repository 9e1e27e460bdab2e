package follow

import (
	"bytes"
	"context"
	"crypto"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"sync"
	"time"

	"nightjar/identity"
	"nightjar/wire"
)

// Membership is how a proxy proves who it is: it joins once, then renews its
// certificate at half of its life. Make one with NewMembership.
type Membership struct {
	cfg MembershipConfig

	// control is what the service is shown. It may be of another authority than what
	// other proxies are shown, while the proxy follows another mesh than the service's.
	control *identity.Credentials

	mu      sync.Mutex // guards what follows
	key     crypto.Signer
	chain   string
	trust   wire.Trust
	renewAt time.Time
	joins   bool             // the service does not take the certificate that there is
	isApart bool             // other proxies are shown a certificate of another authority
	last    *tls.Certificate // see hasChanged
	failed  error            // why it could not be renewed; nil: it could
}

// MembershipConfig is what a Membership is made of.
type MembershipConfig struct {
	Member identity.Member // who the proxy is; the domain is the service's
	Server string          // URL of the service
	// Token is what it joins with, read anew for each attempt; nil: Ready credentials are
	// looked after elsewhere.
	Token func() (identity.Token, error)
	// File is where key and certificate are kept, for the next start; empty: nowhere.
	File string
	// Shown is what other proxies are shown, and what of theirs is accepted.
	Shown *identity.Credentials
	Log   *slog.Logger
}

// NewMembership makes a Membership.
func NewMembership(cfg MembershipConfig) *Membership {
	m := &Membership{cfg: cfg, control: &identity.Credentials{}}
	if cfg.Token == nil {
		m.control = cfg.Shown
		return m
	}
	if err := m.load(); err != nil && !errors.Is(err, fs.ErrNotExist) {
		cfg.Log.Warn("the stored certificate is not used; this proxy joins again", "file", cfg.File, "error", err)
	}
	return m
}

// kept is the file.
type kept struct {
	Key   string     `json:"key"`
	Chain string     `json:"chain"`
	Trust wire.Trust `json:"trust"`
}

// load reads what the process before kept. A certificate that ran out, or of somebody
// else, is not used.
func (m *Membership) load() error {
	if m.cfg.File == "" {
		return nil
	}
	text, err := os.ReadFile(m.cfg.File)
	if err != nil {
		return err
	}
	var k kept
	if err := json.Unmarshal(text, &k); err != nil {
		return err
	}
	key, err := identity.DecodeKey([]byte(k.Key))
	if err != nil {
		return err
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.use(key, wire.Joined{Chain: k.Chain, Trust: k.Trust})
}

// use takes a certificate into use. The caller holds mu.
func (m *Membership) use(key crypto.Signer, j wire.Joined) error {
	chain, err := identity.DecodeCertificates([]byte(j.Chain))
	if err != nil {
		return err
	}
	trust, err := trustOf(j.Trust)
	if err != nil {
		return err
	}
	now := time.Now()
	got, err := trust.Verify(chain, now)
	if err != nil {
		return err
	}
	want := m.cfg.Member
	want.Domain = got.Domain
	if got != want {
		return fmt.Errorf(
			"the certificate is that of %s %s/%s at %q, not of this proxy",
			got.Name,
			got.ID,
			got.Version,
			got.Site,
		)
	}
	own := identity.Certificate(chain, key)
	m.control.Set(own, trust)
	m.key, m.chain, m.trust = key, j.Chain, j.Trust
	life := chain[0].NotAfter.Sub(now)
	m.renewAt = now.Add(time.Duration(float64(life) * (0.45 + 0.1*rand.Float64())))
	m.show(own, trust)
	return nil
}

// show decides what other proxies are shown. Certificates of the same authority take
// over at once. Those of another one wait until the proxy follows its mesh, but both are
// trusted from now on. The caller holds mu.
func (m *Membership) show(own *tls.Certificate, trust *identity.Trust) {
	shown := m.cfg.Shown
	before := shown.Trust()
	switch {
	case before == nil, shown.Own() == nil, time.Now().After(shown.Own().Leaf.NotAfter), overlap(before, trust):
		shown.Set(own, trust)
		m.isApart = false
	default:
		shown.Set(nil, before.With(trust))
		m.isApart = true
	}
}

func overlap(a, b *identity.Trust) bool {
	for _, x := range a.Roots {
		for _, y := range b.Roots {
			if x.Equal(y) {
				return true
			}
		}
	}
	return false
}

// Follow shows other proxies what the service is shown: the proxy follows its mesh.
func (m *Membership) Follow() {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.isApart {
		m.cfg.Shown.Set(m.control.Own(), m.control.Trust())
		m.isApart = false
	}
}

func trustOf(t wire.Trust) (*identity.Trust, error) {
	roots, err := identity.DecodeCertificates([]byte(t.Roots))
	if err != nil {
		return nil, fmt.Errorf("the authorities to trust: %w", err)
	}
	return identity.NewTrust(t.Domain, t.Generation, roots)
}

// Trusts is the generation of the authorities that are trusted; 0: none are.
func (m *Membership) Trusts() uint64 {
	if t := m.control.Trust(); t != nil {
		return t.Generation
	}
	return 0
}

// Problem is why the certificate cannot be renewed; empty: it can.
func (m *Membership) Problem() string {
	m.mu.Lock()
	defer m.mu.Unlock()
	own := m.control.Own()
	if m.failed == nil || own == nil {
		return ""
	}
	return fmt.Sprintf("its certificate runs out on %s and cannot be renewed: %s",
		own.Leaf.NotAfter.UTC().Format("2006-01-02 15:04 MST"), m.failed)
}

// isDue tells whether the certificate is to be renewed.
func (m *Membership) isDue() bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.key != nil && time.Now().After(m.renewAt)
}

// hasChanged tells, once, that the service is to be shown another certificate than before.
func (m *Membership) hasChanged() bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	before := m.last
	m.last = m.control.Own()
	return before != nil && before != m.last
}

// hasten has the certificate renewed soon, within spread.
func (m *Membership) hasten(spread time.Duration) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if at := time.Now().Add(rand.N(spread)); at.Before(m.renewAt) {
		m.renewAt = at
	}
}

// setTrust takes authorities into use that the service wants to be trusted.
func (m *Membership) setTrust(t wire.Trust) error {
	trust, err := trustOf(t)
	if err != nil {
		return err
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if own := m.control.Own(); own != nil && trust.Domain != m.trust.Domain {
		return fmt.Errorf("the service's trust domain is %s, and this proxy's is %s", trust.Domain, m.trust.Domain)
	}
	m.control.Set(nil, trust)
	m.trust = t
	if m.isApart {
		trust = m.cfg.Shown.Trust().With(trust)
	}
	m.cfg.Shown.Set(nil, trust)
	m.save()
	return nil
}

// save keeps what there is for the next start. The caller holds mu.
func (m *Membership) save() {
	if m.cfg.File == "" || m.key == nil {
		return
	}
	key, err := identity.EncodeKey(m.key)
	if err == nil {
		var text []byte
		if text, err = json.Marshal(kept{Key: string(key), Chain: m.chain, Trust: m.trust}); err == nil {
			err = identity.WriteFile(m.cfg.File, text)
		}
	}
	if err != nil {
		m.cfg.Log.Warn("the certificate cannot be kept for the next start", "file", m.cfg.File, "error", err)
	}
}

// ensure joins when there is no certificate that the service takes.
func (m *Membership) ensure(ctx context.Context) error {
	if m.cfg.Token == nil {
		return nil
	}
	m.mu.Lock()
	isMember := m.control.IsReady() && !m.joins && time.Now().Before(m.control.Own().Leaf.NotAfter.Add(identity.Skew))
	m.mu.Unlock()
	if isMember {
		return nil
	}
	return m.join(ctx)
}

// rejoin has the next connection begin with joining, since the service does not take the
// certificate.
func (m *Membership) rejoin() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.joins = true
}

// join asks for a first certificate.
func (m *Membership) join(ctx context.Context) error {
	token, err := m.cfg.Token()
	if err != nil {
		return err
	}
	m.mu.Lock()
	key := m.key
	m.mu.Unlock()
	if key == nil { // kept over attempts, so that a join whose answer was lost can be asked for again
		if key, err = identity.NewKey(); err != nil {
			return err
		}
		m.mu.Lock()
		m.key = key
		m.renewAt = time.Now().Add(time.Hour)
		m.mu.Unlock()
	}
	request, err := identity.NewRequest(key, m.cfg.Member)
	if err != nil {
		return err
	}
	who := m.cfg.Member
	ask := wire.Join{Secret: token.Secret, Request: request, ID: who.ID, Version: who.Version, Site: who.Site}
	switch who.Kind {
	case identity.Gateway:
		ask.Gateway = who.Name.Name
	case identity.Crossing:
		ask.Crossing = who.Name.Name
	default:
		ask.Service = who.Name.Name
	}
	client := &http.Client{
		Transport: &http.Transport{Proxy: nil, TLSClientConfig: token.Config(), DisableKeepAlives: true},
	}
	var joined wire.Joined
	if err := post(ctx, client, m.cfg.Server+wire.JoinPath, ask, &joined); err != nil {
		return fmt.Errorf("cannot join: %w", err)
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if err := m.use(key, joined); err != nil {
		return fmt.Errorf("cannot join: what the service answers is not usable: %w", err)
	}
	m.joins, m.failed = false, nil
	m.save()
	return nil
}

// renew asks for the next certificate, with a new key.
func (m *Membership) renew(ctx context.Context, client *http.Client) error {
	key, err := identity.NewKey()
	if err != nil {
		return err
	}
	who := m.cfg.Member
	who.Domain = m.control.Trust().Domain
	request, err := identity.NewRequest(key, who)
	if err != nil {
		return err
	}
	var joined wire.Joined
	address := m.cfg.Server + wire.Prefix + url.PathEscape(who.ID) + "/certificate"
	err = post(ctx, client, address, wire.Renewal{Request: request, Version: who.Version, Site: who.Site}, &joined)
	m.mu.Lock()
	defer m.mu.Unlock()
	if err == nil {
		err = m.use(key, joined)
	}
	if m.failed = err; err != nil {
		m.renewAt = time.Now().Add(maxBackoff + rand.N(maxBackoff))
		return err
	}
	m.save()
	return nil
}

// post makes one bounded call to the service.
func post(ctx context.Context, client *http.Client, address string, in, out any) error {
	ctx, stop := context.WithTimeout(ctx, callTimeout)
	defer stop()
	b, err := json.Marshal(in)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(b))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	resp, err := client.Do(req)
	if err != nil {
		return clearly(err)
	}
	defer resp.Body.Close()
	if resp.StatusCode >= 300 {
		return said(resp)
	}
	return json.NewDecoder(resp.Body).Decode(out)
}
