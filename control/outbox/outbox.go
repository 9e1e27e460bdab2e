// Package outbox delivers events to receivers: CloudEvents over HTTP, signed, in
// order for each receiver, and again until a receiver takes them. Notices wait in
// the store, so a restart loses none.
package outbox

import (
	"context"
	"crypto/ed25519"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/cenkalti/backoff/v5"
	"github.com/cloudevents/sdk-go/v2/binding"
	"github.com/cloudevents/sdk-go/v2/event"
	cehttp "github.com/cloudevents/sdk-go/v2/protocol/http"

	"nightjar/api/model"
	"nightjar/control/problem"
	"nightjar/store"
)

const (
	// DeliverEvery is how often due notices are looked for.
	DeliverEvery = 500 * time.Millisecond
	// SendTime is how long one receiver may take to respond.
	SendTime = 10 * time.Second
	// MaxAttempts is after how many attempts, over about two hours, a notice is
	// given up.
	MaxAttempts = 30
	// MaxWaiting is how many notices may wait; beyond it, new ones are dropped.
	MaxWaiting = 20_000

	receiversAtOnce    = 16
	noticesPerReceiver = 32 // in one go
	firstWait          = time.Second
	longestWait        = 5 * time.Minute
	responseBytes      = 200 // of a response, for the record
)

// Records is what the outbox needs of the store.
type Records interface {
	Apply(ctx context.Context, changes ...store.Change) error
	DueNotices(ctx context.Context, now time.Time, perReceiver int) ([]store.Notice, error)
	WaitingNotices(ctx context.Context) (int64, error)
}

// Config is what an Outbox is made of.
type Config struct {
	Records Records
	Key     ed25519.PrivateKey // signs events; nil: they are not signed
	Log     *slog.Logger
	Now     func() time.Time
}

// Outbox delivers events. It is safe for concurrent use.
type Outbox struct {
	Config
	client     *http.Client
	deliveries sync.WaitGroup

	mu   sync.Mutex      // guards busy
	busy map[string]bool // receivers that something is being delivered to, by URL
}

// New makes an outbox.
func New(c Config) *Outbox {
	return &Outbox{Config: c, busy: map[string]bool{}, client: &http.Client{
		Timeout: SendTime,
		Transport: &http.Transport{MaxIdleConnsPerHost: 4, MaxConnsPerHost: 8, IdleConnTimeout: 30 * time.Second,
			TLSHandshakeTimeout: 5 * time.Second},
		// An event goes where the rules say, or nowhere.
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}}
}

// Event is a CloudEvent (specification 1.0) as JSON.
func Event(id, kind, source, subject string, at time.Time, data any) (string, error) {
	ev := event.New()
	ev.SetID(id)
	ev.SetType(kind)
	ev.SetSource(source)
	ev.SetSubject(subject)
	ev.SetTime(at)
	if err := ev.SetData(event.ApplicationJSON, data); err != nil {
		return "", err
	}
	text, err := json.Marshal(ev)
	return string(text), err
}

// HasRoom tells whether more notices may wait.
func (o *Outbox) HasRoom(ctx context.Context) bool {
	n, err := o.Records.WaitingNotices(ctx)
	if err == nil && n > MaxWaiting {
		o.Log.Error("too many notices wait for their receivers; new ones are dropped", "waiting", n)
		return false
	}
	return true
}

// Deliver starts to deliver the notices that are due, to each receiver by itself: a
// slow one delays nobody else.
func (o *Outbox) Deliver(ctx context.Context) error {
	list, err := o.Records.DueNotices(ctx, o.Now(), noticesPerReceiver)
	if err != nil {
		return err
	}
	due := map[string][]store.Notice{}
	for _, n := range list {
		due[n.URL] = append(due[n.URL], n)
	}
	for receiver, notices := range due {
		if !o.begin(receiver) {
			continue // next time
		}
		o.deliveries.Go(func() {
			defer o.end(receiver)
			o.deliver(ctx, notices)
		})
	}
	return nil
}

// Wait waits for deliveries that were started.
func (o *Outbox) Wait() { o.deliveries.Wait() }

// begin claims a receiver; false: it is busy, or too many are.
func (o *Outbox) begin(receiver string) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.busy[receiver] || len(o.busy) >= receiversAtOnce {
		return false
	}
	o.busy[receiver] = true
	return true
}

func (o *Outbox) end(receiver string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	delete(o.busy, receiver)
}

// deliver delivers notices to one receiver in order, up to the first that it does
// not take.
func (o *Outbox) deliver(ctx context.Context, notices []store.Notice) {
	var tried store.UpdateNotices
	for _, n := range notices {
		response, err := o.Send(ctx, n.URL, n.IsBinary, n.Event)
		if ctx.Err() != nil {
			break // it stays due
		}
		n.Attempts++
		switch {
		case err == nil:
			n.State, n.Response = store.NoticeDelivered, response
		case n.Attempts >= MaxAttempts:
			n.State, n.Response = store.NoticeGivenUp, err.Error()
		default:
			n.Due, n.Response = o.Now().Add(waitAfter(n.Attempts)).UTC(), err.Error()
		}
		if tried = append(tried, n); err != nil {
			break
		}
	}
	if err := o.Records.Apply(context.WithoutCancel(ctx), tried); err != nil {
		o.Log.Error("the results of deliveries could not be stored; the notices are sent again", "error", err)
	}
}

// waitAfter is the pause before the next attempt, after this many failed ones.
func waitAfter(attempts int) time.Duration {
	b := backoff.ExponentialBackOff{
		InitialInterval:     firstWait,
		Multiplier:          2,
		RandomizationFactor: 0.5,
		MaxInterval:         longestWait,
	}
	b.Reset()
	wait := firstWait
	for range attempts {
		wait = b.NextBackOff()
	}
	return wait
}

// Send sends an event, as JSON, to a receiver. Every 2xx is success.
func (o *Outbox) Send(ctx context.Context, receiver string, isBinary bool, text string) (response string, err error) {
	req, err := o.request(ctx, receiver, isBinary, text)
	if err != nil {
		return "", err
	}
	resp, err := o.client.Do(req)
	if outer := (*url.Error)(nil); errors.As(err, &outer) {
		err = outer.Err // the URL is known
	}
	if err != nil {
		return "", fmt.Errorf("no response: %w", err)
	}
	defer resp.Body.Close()
	body, _ := io.ReadAll(io.LimitReader(resp.Body, responseBytes))
	if resp.StatusCode < 200 || resp.StatusCode > 299 {
		words := strings.Fields(resp.Status + " " + strings.ToValidUTF8(string(body), ""))
		return "", fmt.Errorf("it responded %s", strings.Join(words, " "))
	}
	return resp.Status, nil
}

func (o *Outbox) request(ctx context.Context, receiver string, isBinary bool, text string) (*http.Request, error) {
	var ev event.Event
	if err := json.Unmarshal([]byte(text), &ev); err != nil {
		return nil, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, receiver, nil)
	if err != nil {
		return nil, err
	}
	mode := binding.WithForceStructured(ctx)
	if isBinary {
		mode = binding.WithForceBinary(ctx)
	}
	if err := cehttp.WriteRequest(mode, binding.ToMessage(&ev), req); err != nil {
		return nil, err
	}
	req.Header.Set("User-Agent", "nightjar")
	return req, sign(req, o.Key, o.Now())
}

// SigningKey is the key by which receivers check signatures.
func (o *Outbox) SigningKey() (model.SigningKey, error) {
	if o.Key == nil {
		return model.SigningKey{}, problem.Missing("this service has no key and signs nothing")
	}
	public := o.Key.Public().(ed25519.PublicKey)
	der, err := x509.MarshalPKIXPublicKey(public)
	if err != nil {
		return model.SigningKey{}, err
	}
	text := pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der})
	return model.SigningKey{ID: keyID(public), Algorithm: "ed25519", PEM: string(text)}, nil
}
