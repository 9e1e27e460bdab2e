package test

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"nightjar/api/model"
)

// pair is a service process and proxies of their own beside two programs that
// know nothing of Nightjar.
type pair struct {
	*mesh
	data    string
	service *process
	proxies []*process
}

const pairRules = `
services:
  lamp:
    versions: [v1, v2]
    routes:
      - {name: all, send: {v1: %d, v2: %d}}
gateways:
  pier: {listen: %q, hosts: ["*"], routes: [{name: all, send: lamp}]}
`

func startPair(t *testing.T) *pair {
	addr := freeBase(t)
	p := &pair{data: t.TempDir()}
	p.service = start(t, "Console and API", "serve", "--listen", addr, "--data", p.data)
	p.mesh = newMesh(t, p.service, addr)
	for _, v := range []string{"v1", "v2"} {
		app := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, v) }))
		t.Cleanup(app.Close)
		p.proxies = append(p.proxies, start(t, "proxy ready", "proxy", "--server", addr, "--service", "lamp", "--version", v, "--name", "lamp-"+v, "--app", strings.TrimPrefix(app.URL, "http://")))
	}
	eventually(t, "plain balancing between both", func() bool { return answers(p.call(20, "http://lamp/")) == "v1=10 v2=10" })
	return p
}

// TestKilledService kills the service in the middle of publishes, under load:
// no request fails, and afterwards the log holds every publish that was
// answered with success, each whole.
func TestKilledService(t *testing.T) {
	t.Parallel()
	p := startPair(t)
	gateway := "127.0.0.1:" + freeBase(t)[len("127.0.0.1:"):]
	files := func(v1 int) []model.File {
		return []model.File{{Name: "lamp.yaml", Text: fmt.Sprintf(pairRules, v1, 100-v1, gateway)}}
	}
	if _, err := p.api.Publish(t.Context(), model.PublishRequest{Files: files(100)}, nil); err != nil {
		t.Fatal(err)
	}
	p.proxies = append(p.proxies, start(t, "proxy ready", "proxy", "--server", p.addr, "--gateway", "pier"))
	if got := p.call(10, "http://anything.example/", "-H", "Host: x.example"); answers(got) != "" {
		t.Errorf("a host of everybody is not what a call means: %s", answers(got))
	}
	if got := p.call(10, "http://"+gateway+"/"); answers(got) != "v1=10" {
		t.Fatalf("through the gateway: %s", answers(got))
	}
	stop := load(t, p.outbound("lamp"), "lamp", "/")

	last := uint(0) // the last revision that was answered with success
	for round := range 3 {
		answered := make(chan uint)
		go func() {
			n := uint(0)
			defer func() { answered <- n }()
			for i := 0; ; i++ {
				out, err := p.api.Publish(t.Context(), model.PublishRequest{Files: files(i % 101), WaitMS: new(int)}, nil)
				if err != nil {
					return
				}
				n = out.Revision
			}
		}()
		eventually(t, "some publishes", func() bool {
			r, err := p.api.Revision(t.Context(), 0)
			return err == nil && r.Number > last+10
		})
		p.service.cmd.Process.Kill()
		last = <-answered
		eventually(t, "the end", p.service.ended)

		p.service = start(t, "Console and API", "serve", "--listen", p.addr, "--data", p.data)
		r, err := p.api.Revision(t.Context(), 0)
		if err != nil || r.Number < last || r.Number > last+1 {
			t.Fatalf("round %d: after the restart revision %d is in force, answered was %d, %v", round, r.Number, last, err)
		}
		last = r.Number
		log, err := p.api.Revisions(t.Context(), 0, 200)
		if err != nil || len(log.Revisions) != min(200, int(last)) {
			t.Fatalf("the log has %d revisions of %d, %v", len(log.Revisions), last, err)
		}
		for _, r := range log.Revisions {
			full, err := p.api.Revision(t.Context(), r.Number)
			if err != nil || len(full.Bundles["main"]) != 1 || !strings.HasSuffix(full.Bundles["main"][0].Text, "send: lamp}]}\n") {
				t.Fatalf("revision %d is not whole: %v", r.Number, err)
			}
		}
		eventually(t, "the proxies to come back and follow", func() bool {
			m, err := p.api.Mesh(t.Context(), 10)
			return err == nil && m.Revision.Acknowledged == 4 && m.Revision.Number == last
		})
	}
	if sent, bad := stop(); len(bad) > 0 || sent < 100 {
		t.Errorf("%d of %d requests failed, the first: %s", len(bad), sent, bad[0])
	}
}

// TestInstancesComeAndGo: an instance that is told to stop leaves without a
// failed request; a second proxy of one name is refused.
func TestInstancesComeAndGo(t *testing.T) {
	t.Parallel()
	p := startPair(t)
	if _, errs, code := runIn(t, "", "proxy", "--server", p.addr, "--service", "lamp"); code != 2 || !strings.Contains(errs, "--version") {
		t.Errorf("exit %d: %s", code, errs)
	}
	second := start(t, "", "proxy", "--server", p.addr, "--service", "lamp", "--version", "v9", "--name", "lamp-v1", "--app", "127.0.0.1:1")
	eventually(t, "the refusal of a name twice", func() bool { return strings.Contains(second.said(), "another proxy is registered as lamp-v1") })

	stop := load(t, p.outbound(""), "lamp", "/")
	eventually(t, "requests at both", func() bool { return answers(p.call(10, "http://lamp/")) == "v1=5 v2=5" })
	p.proxies[1].cmd.Process.Signal(interrupt)
	eventually(t, "v1 to be alone", func() bool { return answers(p.call(4, "http://lamp/")) == "v1=4" })
	if sent, bad := stop(); len(bad) > 0 {
		t.Errorf("%d of %d requests failed, the first: %s", len(bad), sent, bad[0])
	}
}
