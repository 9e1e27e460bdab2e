package api

import (
	"context"
	"net/http"
	"time"

	"github.com/labstack/echo/v5"

	"nightjar/control"
	"nightjar/wire"
)

// beat is how often a stream of snapshots says that it is alive.
const beat = 2 * time.Second

// meshRoutes are the endpoints of the proxies; see package wire.
func (s *Server) meshRoutes(e *echo.Echo) {
	g := e.Group(wire.Prefix[:len(wire.Prefix)-1])
	g.PUT("/:id", func(c *echo.Context) error {
		var r wire.Registration
		if err := body(c, &r); err != nil {
			return err
		}
		if r.ID != c.Param("id") {
			return problem(http.StatusBadRequest, "path", "the path names proxy %s, the body %s", c.Param("id"), r.ID)
		}
		lease, err := s.control.Register(r)
		if err != nil {
			if f := asProblem(err); f.Status < 500 {
				return f
			}
			return problem(http.StatusUnprocessableEntity, "registration", "%s", err.Error())
		}
		return c.JSON(http.StatusOK, lease)
	})
	g.DELETE("/:id", func(c *echo.Context) error {
		s.control.Withdraw(c.Param("id"), c.QueryParam("nonce"))
		return c.NoContent(http.StatusNoContent)
	})
	g.GET("/:id/snapshots", s.snapshots)
	g.POST("/:id/acks", func(c *echo.Context) error {
		var a wire.Ack
		if err := body(c, &a); err != nil {
			return err
		}
		if err := s.control.Acknowledge(c.Param("id"), a); err != nil {
			return err
		}
		return c.NoContent(http.StatusNoContent)
	})
	g.POST("/:id/telemetry", func(c *echo.Context) error {
		var d wire.Delta
		if err := body(c, &d); err != nil {
			return err
		}
		return c.JSON(http.StatusOK, s.control.Count(c.Param("id"), d))
	})
	g.POST("/:id/seen", func(c *echo.Context) error {
		var seen wire.Seen
		if err := body(c, &seen); err != nil {
			return err
		}
		s.control.Saw(seen)
		return c.NoContent(http.StatusNoContent)
	})
}

// snapshots streams snapshots to one proxy, each as soon as something changed.
func (s *Server) snapshots(c *echo.Context) error {
	end, err := s.stream()
	if err != nil {
		return err
	}
	defer end()
	detach, err := s.control.Attach(c.Param("id"), c.Request().Header.Get("Nightjar-Nonce"))
	if err != nil {
		return err
	}
	defer detach()
	ctx, w := c.Request().Context(), c.Response()
	w.Header().Set("Content-Type", "application/x-ndjson")
	out := http.NewResponseController(w)
	alive := time.NewTicker(beat)
	defer alive.Stop()
	write := func(line []byte) bool {
		out.SetWriteDeadline(time.Now().Add(10 * time.Second))
		_, err := w.Write(line)
		return err == nil && out.Flush() == nil
	}
	var seen uint64
	for {
		news, changed := s.control.News(c.Param("id"), seen)
		if news != nil {
			if seen = news.Sequence; !news.Nothing && !write(news.Line()) {
				return nil
			}
			if !news.Urgent {
				changed = s.gather(ctx, c.Param("id"), seen, changed)
			}
		}
		select {
		case <-ctx.Done():
			return nil
		case <-alive.C:
			if !write([]byte("{}\n")) {
				return nil
			}
		case <-changed:
		}
	}
}

// gatherTime is how long changes of instances are gathered before they are told:
// they often come and go together.
const gatherTime = 50 * time.Millisecond

// gather waits for more changes of instances, unless the rules change. The
// channel that it returns is closed when there is something new already.
func (s *Server) gather(ctx context.Context, id string, seen uint64, changed <-chan struct{}) <-chan struct{} {
	t := time.NewTimer(gatherTime)
	defer t.Stop()
	wait := changed
	for {
		select {
		case <-t.C:
			return changed
		case <-ctx.Done():
			return changed
		case <-wait:
			changed = wait
			var news *control.News
			if news, wait = s.control.News(id, seen); news != nil && news.Urgent {
				return changed
			}
		}
	}
}
