package api

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"sync"
	"time"

	"github.com/labstack/echo/v5"

	"nightjar/api/change"
	"nightjar/api/model"
	"nightjar/control/people"
	"nightjar/metrics"
	"nightjar/store"
)

const (
	liveWindow = 10               // seconds that the figures of the live stream cover
	liveEvery  = time.Second      // between two events
	writeTime  = 10 * time.Second // for one line of a stream
)

// meshOperations show the mesh, now and over time.
func (s *Server) meshOperations() []Operation {
	return []Operation{
		get("/mesh", "mesh", "All that runs, with the figures of one window", s.mesh,
			Param{"window", "integer", "seconds that the figures cover; 10 when absent, at most 14 days"},
			Param{"at", "integer", "end of the window in seconds since 1970; now when absent"}, siteParam).forTeams(),
		{
			Method:  http.MethodGet,
			Path:    "/live",
			ID:      "live",
			Summary: "The mesh at once and then every second, as Server-Sent Events named mesh",
			Params: []Param{{
				"changes",
				"boolean",
				"after the first mesh send what changed, as events named change: {\"name\": change} changes inside an object, " +
					"or inside a list by index; [value] is the new value; [] is a member that is gone. " +
					"A client that was too slow for one is sent a whole mesh instead",
			}},
			Out:    model.Mesh{},
			Media:  "text/event-stream",
			Status: http.StatusOK,
			Needs:  people.Viewer,
			handle: s.live,

			IsForTeams: true,
		},
		get(
			"/timeline",
			"timeline",
			"The figures of a group of requests over time, with revisions and drills",
			s.timeline,
			Param{"from", "integer", "seconds since 1970; 15 minutes before to when absent"},
			Param{"to", "integer", "seconds since 1970; now when absent"},
			Param{"step", "integer", "seconds of each point; chosen for about a hundred points when absent"},
			Param{"caller", "string", "calling service or gateway"},
			Param{"service", "string", "called service"},
			Param{"version", "string", "called version"},
			Param{"instance", "string", "called instance"},
			Param{"parent", "string", "service or gateway of the route"},
			Param{"route", "string", "with parent"},
			siteParam,
		).forTeams(),
		get(
			"/timeline/services",
			"servicesOverTime",
			"The success of every service over time",
			func(c *echo.Context) (model.ServicesOverTime, error) {
				q, err := times(c)
				if err != nil {
					return model.ServicesOverTime{}, err
				}
				all, err := s.control.Views.Figures.ServicesOverTime(c.Request().Context(), q)
				sc := s.scopeOf(c)
				all.Services = keep(all.Services, func(o *model.ServiceOverTime) bool { return sc.Sees(o.Service) })
				return all, err
			},
			Param{"from", "integer", "seconds since 1970; 15 minutes before to when absent"},
			Param{"to", "integer", "seconds since 1970; now when absent"},
			Param{"step", "integer", "seconds of each value; chosen for about sixty values when absent"},
			siteParam,
		).forTeams(),
	}
}

func (s *Server) mesh(c *echo.Context) (model.Mesh, error) {
	seconds, err := number(c, "window", liveWindow, 1, store.CoarseTime)
	if err != nil {
		return model.Mesh{}, err
	}
	at, err := number(c, "at", 0, 0, 1<<40)
	if err != nil {
		return model.Mesh{}, err
	}
	m, err := s.control.Views.Mesh(c.Request().Context(), int64(seconds), int64(at), c.QueryParam("site"))
	return meshFor(m, whoOf(c), s.scopeOf(c)), err
}

// siteParam narrows a view to a site.
var siteParam = Param{"site", "string", "only what runs at the site, and requests that were made or answered there"}

// liveMesh is the newest mesh, made once for everybody who looks at it.
type liveMesh struct {
	source func(context.Context) (model.Mesh, error)

	mu     sync.Mutex // guards what follows
	mesh   model.Mesh
	made   time.Time // when mesh was made
	id     int64     // of mesh
	whole  []byte    // mesh as JSON; nil: nobody asked for it yet
	before int64     // id of the mesh before
	change []byte    // from the mesh before to mesh, as JSON
}

// event is what a client is sent.
type event struct {
	id   int64
	kind string
	data []byte
}

// next returns the event for a client whose newest mesh has an id (0: it has none), and
// the time left until there is another. The client gets what changed if it asks for that and has the
// mesh before, and the whole mesh otherwise.
func (l *liveMesh) next(ctx context.Context, has int64, changes bool) (event, time.Duration, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if time.Since(l.made) >= liveEvery {
		if err := l.renew(ctx); err != nil {
			return event{}, 0, err
		}
	}
	e := event{id: l.id, kind: "change", data: l.change}
	if !changes || has == 0 || has != l.before {
		if l.whole == nil {
			var err error
			if l.whole, err = json.Marshal(l.mesh); err != nil {
				return event{}, 0, err
			}
		}
		e.kind, e.data = "mesh", l.whole
	}
	return e, liveEvery - time.Since(l.made), nil
}

// newest is the newest mesh itself.
func (l *liveMesh) newest(ctx context.Context) (model.Mesh, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if time.Since(l.made) >= liveEvery {
		if err := l.renew(ctx); err != nil {
			return model.Mesh{}, err
		}
	}
	return l.mesh, nil
}

// renew makes the newest mesh.
func (l *liveMesh) renew(ctx context.Context) error {
	now := time.Now()
	m, err := l.source(context.WithoutCancel(ctx))
	if err != nil {
		return err
	}
	diff, err := change.Between(&l.mesh, &m)
	if err != nil {
		return err
	}
	l.before, l.change = l.id, diff
	l.mesh, l.made, l.id, l.whole = m, now, max(l.id+1, m.At.UnixMilli()), nil
	return nil
}

// live sends the mesh at once and then every second, until the client leaves or the
// service ends.
func (s *Server) live(c *echo.Context) error {
	ctx, end, err := s.stream(c, &s.people)
	if err != nil {
		return err
	}
	defer end()
	mesh, leave, err := s.liveFor(c)
	if err != nil {
		return err
	}
	defer leave()
	w := c.Response()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	out := http.NewResponseController(w)
	changes := c.QueryParam("changes") == "true"
	var has int64
	for {
		e, left, err := mesh.next(ctx, has, changes)
		if err != nil {
			return err
		}
		out.SetWriteDeadline(time.Now().Add(writeTime))
		if _, err := fmt.Fprintf(w, "id: %d\nevent: %s\ndata: %s\n\n", e.id, e.kind, e.data); err != nil || out.Flush() != nil {
			return nil // the client has left
		}
		has = e.id
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(left):
		}
	}
}

func (s *Server) timeline(c *echo.Context) (model.Timeline, error) {
	q, err := times(c)
	if err != nil {
		return model.Timeline{}, err
	}
	q.Caller, q.Service, q.Version = c.QueryParam("caller"), c.QueryParam("service"), c.QueryParam("version")
	q.Instance, q.Parent, q.Route = c.QueryParam("instance"), c.QueryParam("parent"), c.QueryParam("route")
	if !seesGroup(&q, s.control.Revisions.Current().Rules, s.scopeOf(c)) {
		return model.Timeline{}, s.notTheirs(c, cmp.Or(q.Service, q.Parent, q.Caller, "the whole mesh"))
	}
	t, err := s.control.Views.Timeline(c.Request().Context(), q)
	if s.scopeOf(c).IsLimited() {
		t.Marks = keep(t.Marks, func(m *model.Mark) bool { return m.Kind == model.MarkRevision })
		for i := range t.Marks {
			t.Marks[i].By, t.Marks[i].Text = saidBy(whoOf(c), t.Marks[i].By, t.Marks[i].Text)
		}
	}
	return t, err
}

// times is the times of a query.
func times(c *echo.Context) (q model.TimelineQuery, err error) {
	for name, to := range map[string]*int64{"from": &q.From, "to": &q.To, "step": &q.Step} {
		n, err := number(c, name, 0, 0, 1<<40)
		if err != nil {
			return q, err
		}
		*to = int64(n)
	}
	q.Site = c.QueryParam("site")
	return q, nil
}

// metrics is what the service counted, in the OpenMetrics format.
func (s *Server) metrics() http.Handler {
	value := func(name, help string, isCounter bool, read func() float64) metrics.Value {
		return metrics.Value{Name: name, Help: help, Counter: isCounter, Read: read}
	}
	c := s.control
	return metrics.Handler(
		c.Figures.Totals(),
		c.Program,
		value("nightjar_revision", "Number of the revision in force.", false,
			func() float64 { return float64(c.Revisions.Current().Revision.Number) }),
		value("nightjar_proxies_connected", "Proxies that hold a stream of snapshots.", false, func() float64 {
			n := 0
			for _, p := range c.Fleet.List().Proxies {
				if p.IsConnected {
					n++
				}
			}
			return float64(n)
		}),
		value("nightjar_series", "Sets of names with requests in the last 15 minutes.", false, func() float64 {
			n, _ := c.Figures.State()
			return float64(n)
		}),
		value(
			"nightjar_unnamed_requests_total",
			"Requests counted without names because there were too many names.",
			true,
			func() float64 {
				_, n := c.Figures.State()
				return float64(n)
			},
		),
		value("nightjar_spans_exported_total", "Spans that were exported.", true, func() float64 {
			n, _ := c.Traces.Exporter.State()
			return float64(n)
		}),
		value("nightjar_spans_dropped_total", "Spans that could not be exported.", true, func() float64 {
			_, n := c.Traces.Exporter.State()
			return float64(n)
		}),
	)
}
