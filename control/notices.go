package control

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	neturl "net/url"
	"strings"
	"sync"
	"time"

	"github.com/cloudevents/sdk-go/v2/binding"
	"github.com/cloudevents/sdk-go/v2/event"
	cehttp "github.com/cloudevents/sdk-go/v2/protocol/http"

	"nightjar/core/release"
	"nightjar/core/rules"
	"nightjar/store"
)

const (
	noticeEvery  = 500 * time.Millisecond
	noticeTime   = 10 * time.Second // for one answer
	toldAtOnce   = 16               // receivers
	noticesToOne = 32               // receiver, in one go
	firstWait    = time.Second
	longestWait  = 5 * time.Minute
	noticeTries  = 30     // about two hours; then a notice is given up
	maxNotices   = 20_000 // that wait; past it, new ones are not kept
)

// announced are the events that receivers are told of; judgements only when missed.
var announced = map[string]bool{"started": true, "shifted": true, "judged": true, "held": true, "resumed": true, "skipped": true, "withdrawn": true, "completed": true}

// restOf is what is stored of a release.
func (c *Control) restOf(x *releaseRun, number uint) (store.ReleaseRest, error) {
	r := x.run
	run, err := json.Marshal(r)
	if err != nil {
		return store.ReleaseRest{}, err
	}
	rest := store.ReleaseRest{ReleaseHead: store.ReleaseHead{Name: r.Plan.Name, State: string(r.State), Over: r.State.Over(), Began: r.Began}, Run: json.RawMessage(run)}
	for i := range r.Judgements {
		rest.Judgements = append(rest.Judgements, r.Judgements[i])
	}
	for i, e := range r.Events {
		rest.Events = append(rest.Events, e)
		if !announced[e.Kind] || len(r.Plan.Notify) == 0 {
			continue
		}
		ev, err := c.eventOf(number, r, e, i)
		if err != nil {
			return rest, err
		}
		for _, to := range r.Plan.Notify {
			rest.Notices = append(rest.Notices, store.Notice{Release: number, URL: to.URL, Binary: to.Binary, Event: ev, Due: e.At.UTC(), State: store.NoticeWaiting})
		}
	}
	if len(rest.Notices) > 0 {
		if n, err := c.store.WaitingNotices(context.Background()); err == nil && n > maxNotices {
			rest.Notices = nil
			c.Log.Error("receivers do not take what they are told, and no more is kept for them", "waiting", n)
		}
	}
	return rest, nil
}

// noticeData is what a CloudEvent of a release carries.
type noticeData struct {
	Release Release       `json:"release"`
	Event   release.Event `json:"event"`
}

// eventOf is a CloudEvent (specification 1.0) as JSON.
func (c *Control) eventOf(number uint, r *release.Run, e release.Event, n int) (string, error) {
	ev := event.New()
	ev.SetID(fmt.Sprintf("%d-%d-%d", number, e.At.UnixNano(), n))
	ev.SetType("nightjar.release." + e.Kind)
	ev.SetSource("/api/v1/releases/" + r.Plan.Name)
	ev.SetSubject(r.Plan.Name)
	ev.SetTime(e.At)
	if err := ev.SetData(event.ApplicationJSON, noticeData{c.releaseView(number, r), e}); err != nil {
		return "", err
	}
	text, err := json.Marshal(ev)
	return string(text), err
}

// deliverNotices begins to tell receivers what is due, each by itself: one that is
// slow holds up nobody else.
func (c *Control) deliverNotices(ctx context.Context) error {
	list, err := c.store.DueNotices(ctx, c.now(), noticesToOne)
	if err != nil {
		return err
	}
	due := map[string][]store.Notice{}
	for _, n := range list {
		due[n.URL] = append(due[n.URL], n)
	}
	for url, list := range due {
		if !c.told.begin(url) {
			continue // its turn comes
		}
		c.beside.Go(func() {
			defer c.told.end(url)
			c.deliver(ctx, list)
		})
	}
	return nil
}

// telling are the receivers who are being told something. The zero value is
// nobody.
type telling struct {
	mu  sync.Mutex
	now map[string]bool
}

// begin tells whether a receiver can be told something now, and notes that it is.
func (t *telling) begin(url string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.now[url] || len(t.now) >= toldAtOnce {
		return false
	}
	if t.now == nil {
		t.now = map[string]bool{}
	}
	t.now[url] = true
	return true
}

func (t *telling) end(url string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.now, url)
}

// deliver tells one receiver what is due, in order, until it does not take it.
func (c *Control) deliver(ctx context.Context, list []store.Notice) {
	tried := list[:0]
	for _, n := range list {
		answer, err := c.tell(ctx, n.URL, n.Binary, n.Event)
		if ctx.Err() != nil {
			break // it is due again
		}
		n.Tries++
		n.Answer = answer
		switch {
		case err == nil:
			n.State = store.NoticeDelivered
		case n.Tries >= noticeTries:
			n.State, n.Answer = store.NoticeGivenUp, err.Error()
		default:
			wait := min(firstWait<<min(n.Tries-1, 20), longestWait)
			n.Due, n.Answer = c.now().Add(wait/2+rand.N(wait)).UTC(), err.Error()
		}
		if tried = append(tried, n); err != nil {
			break
		}
	}
	if err := c.store.UpdateNotices(context.WithoutCancel(ctx), tried); err != nil {
		c.Log.Error("what came of notices cannot be stored; they are told again", "error", err)
	}
}

// tellers carry what receivers are told. They follow no redirects: an event goes
// where the rules say, or nowhere.
var tellers = &http.Client{
	Timeout:       noticeTime,
	Transport:     &http.Transport{MaxIdleConnsPerHost: 4, MaxConnsPerHost: 8, IdleConnTimeout: 30 * time.Second, TLSHandshakeTimeout: 5 * time.Second},
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
}

// tell sends an event, and is content with any 2xx.
func (c *Control) tell(ctx context.Context, url string, binary bool, text string) (answer string, err error) {
	var ev event.Event
	if err := json.Unmarshal([]byte(text), &ev); err != nil {
		return "", err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, url, nil)
	if err != nil {
		return "", err
	}
	mode := binding.WithForceStructured(ctx)
	if binary {
		mode = binding.WithForceBinary(ctx)
	}
	if err := cehttp.WriteRequest(mode, binding.ToMessage(&ev), req); err != nil {
		return "", err
	}
	req.Header.Set("User-Agent", "nightjar")
	if err := sign(req, c.Key, c.now()); err != nil {
		return "", err
	}
	resp, err := tellers.Do(req)
	if outer := (*neturl.Error)(nil); errors.As(err, &outer) {
		err = outer.Err // which URL it was is said already
	}
	if err != nil {
		return "", fmt.Errorf("no answer: %w", err)
	}
	defer resp.Body.Close()
	said, _ := io.ReadAll(io.LimitReader(resp.Body, 200))
	if resp.StatusCode < 200 || resp.StatusCode > 299 {
		return "", fmt.Errorf("it answered %s", strings.Join(strings.Fields(resp.Status+" "+strings.ToValidUTF8(string(said), "")), " "))
	}
	return resp.Status, nil
}

// sign signs a request (RFC 9421, Ed25519) with the digest of its body (RFC
// 9530), so that a receiver knows who sent it and that nobody changed it.
func sign(req *http.Request, key ed25519.PrivateKey, now time.Time) error {
	body, err := io.ReadAll(req.Body)
	if err != nil {
		return err
	}
	req.Body, req.ContentLength = io.NopCloser(bytes.NewReader(body)), int64(len(body))
	req.GetBody = func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(body)), nil }
	if key == nil {
		return nil
	}
	digest := sha256.Sum256(body)
	req.Header.Set("Content-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(digest[:])+":")
	names, base := []string{`"@method"`, `"@target-uri"`}, fmt.Sprintf("\"@method\": %s\n\"@target-uri\": %s\n", req.Method, req.URL)
	for _, name := range []string{"content-type", "content-digest", "ce-id", "ce-source", "ce-type", "ce-time", "ce-subject"} {
		if v := req.Header.Get(name); v != "" {
			names = append(names, `"`+name+`"`)
			base += fmt.Sprintf("%q: %s\n", name, v)
		}
	}
	params := fmt.Sprintf(`(%s);created=%d;keyid="%s";alg="ed25519"`, strings.Join(names, " "), now.Unix(), KeyID(key.Public().(ed25519.PublicKey)))
	base += `"@signature-params": ` + params
	req.Header.Set("Signature-Input", "nightjar="+params)
	req.Header.Set("Signature", "nightjar=:"+base64.StdEncoding.EncodeToString(ed25519.Sign(key, []byte(base)))+":")
	return nil
}

// KeyID names a key in signatures: the beginning of its SHA-256.
func KeyID(key ed25519.PublicKey) string {
	sum := sha256.Sum256(key)
	return base64.RawURLEncoding.EncodeToString(sum[:9])
}

// asksAtOnce bounds the releases whose receivers are asked at the same time.
const asksAtOnce = 64

// ask asks the receivers who are to be asked before the next step, beside
// everything else. The caller holds publishing.
func (c *Control) ask(ctx context.Context, x *releaseRun) {
	r := x.run
	if x.asking != nil && !r.Asking {
		x.asking()
		x.asking = nil
	}
	if x.asking != nil || !r.Asking || c.ending {
		return
	}
	asked := 0
	for _, o := range c.releases {
		if o.asking != nil {
			asked++
		}
	}
	if asked >= asksAtOnce {
		return // its turn comes
	}
	now, next := c.now().UTC(), r.Steps()[r.Step+1]
	text, err := c.eventOf(x.number, r, release.Event{At: now, Kind: "gate", Step: next.Name, Text: fmt.Sprintf("may stage %s begin?", next.Name)}, 0)
	ctx, stop := context.WithTimeout(ctx, noticeTime)
	x.asking = stop
	var gates []rules.Receiver
	for _, to := range r.Plan.Notify {
		if to.Gate {
			gates = append(gates, to)
		}
	}
	c.beside.Go(func() {
		defer stop()
		why := ""
		for _, to := range gates {
			if err == nil {
				_, err = c.tell(ctx, to.URL, to.Binary, text)
			}
			if err != nil {
				why = fmt.Sprintf("%s does not let stage %s begin: %v", to.URL, next.Name, err)
				break
			}
		}
		c.publishing.Lock()
		defer c.publishing.Unlock()
		if x.asking == nil || ctx.Err() == context.Canceled {
			return // somebody decided meanwhile, or the service ends: it asks again
		}
		x.asking = nil
		now := c.now().UTC()
		x.run.Gate(now, why)
		if err := c.follow(context.WithoutCancel(ctx), now, []*releaseRun{x}); err != nil {
			c.Log.Error("what a receiver answered cannot be stored; it is asked again", "error", err)
		}
	})
}

// NoticeKey is the public half of the key that signs what receivers are told.
type NoticeKey struct {
	ID        string `json:"id" doc:"keyid of the signatures"`
	Algorithm string `json:"algorithm"`
	PEM       string `json:"pem" doc:"SubjectPublicKeyInfo"`
}

// NoticeKey is what receivers check signatures with.
func (c *Control) NoticeKey() (NoticeKey, error) {
	if c.Key == nil {
		return NoticeKey{}, Unusable{"this service has no key, and signs nothing"}
	}
	public := c.Key.Public().(ed25519.PublicKey)
	der, err := x509.MarshalPKIXPublicKey(public)
	if err != nil {
		return NoticeKey{}, err
	}
	return NoticeKey{KeyID(public), "ed25519", string(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der}))}, nil
}
