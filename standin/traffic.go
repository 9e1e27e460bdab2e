package standin

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"sync"
	"time"
)

// Traffic sends steady mixed requests to a gateway: open loop, so a slow answer
// does not hold back the next request.
type Traffic struct {
	Gateway string // host:port
	Host    string // host of the requests
	Rate    float64
}

// mix is the sample traffic: path and how much of it.
var mix = []struct {
	path  string
	share float64
}{{"/", 0.5}, {"/sailings/today", 0.25}, {"/fares/adult", 0.15}, {"/tides/next", 0.1}}

// maxInFlight bounds the requests that wait for an answer; more are not sent.
const maxInFlight = 512

// Run sends requests until ctx is done.
func (t Traffic) Run(ctx context.Context) {
	client := &http.Client{Timeout: 20 * time.Second, Transport: &http.Transport{Proxy: nil, MaxIdleConnsPerHost: 64}}
	defer client.CloseIdleConnections()
	var out sync.WaitGroup
	defer out.Wait()
	places := make(chan struct{}, maxInFlight)
	began, timer := time.Now(), time.NewTimer(0)
	defer timer.Stop()
	for n := 0; ; n++ {
		select {
		case <-ctx.Done():
			return
		case <-timer.C:
		}
		// The next one is due by the schedule, however late this one was.
		timer.Reset(time.Until(began.Add(time.Duration(float64(n+1) / t.Rate * float64(time.Second)))))
		select {
		case places <- struct{}{}:
		default:
			continue
		}
		out.Go(func() {
			defer func() { <-places }()
			t.send(ctx, client, n)
		})
	}
}

func (t Traffic) send(ctx context.Context, client *http.Client, n int) {
	pick, path := rand.Float64(), mix[0].path
	for _, m := range mix {
		path = m.path
		if pick -= m.share; pick < 0 {
			break
		}
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+t.Gateway+path, nil)
	if err != nil {
		return
	}
	req.Host = t.Host
	if n%20 == 0 {
		req.Header.Set("X-Crew", "yes")
	}
	req.Header.Set("Cookie", fmt.Sprintf("berth=%c%d; lang=%s", 'A'+n%6, n%40, []string{"en", "no", "fo"}[n%3]))
	resp, err := client.Do(req)
	if err != nil {
		return
	}
	io.Copy(io.Discard, resp.Body)
	resp.Body.Close()
}
