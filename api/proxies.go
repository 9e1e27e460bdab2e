package api

import (
	"context"
	"net/http"
	"time"

	"github.com/labstack/echo/v5"

	"nightjar/control/fleet"
	"nightjar/wire"
)

const (
	// heartbeat is how often a stream of snapshots shows that it is alive.
	heartbeat = 2 * time.Second
	// gatherTime is how long changes of instances are gathered before proxies get
	// them: instances often come and go together.
	gatherTime = 50 * time.Millisecond
)

// proxyRoutes are the endpoints of the proxies; see package wire.
func (s *Server) proxyRoutes(e *echo.Echo) {
	g := e.Group(wire.Prefix[:len(wire.Prefix)-1])
	g.PUT("/:id", s.register)
	g.DELETE("/:id", func(c *echo.Context) error {
		s.control.Fleet.Withdraw(c.Param("id"), c.QueryParam("nonce"))
		return c.NoContent(http.StatusNoContent)
	})
	g.GET("/:id/snapshots", s.snapshots)
	g.POST("/:id/acks", func(c *echo.Context) error {
		var a wire.Ack
		if err := body(c, &a); err != nil {
			return err
		}
		if err := s.control.Fleet.Acknowledge(c.Param("id"), a); err != nil {
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
		s.control.Feed.Report(seen)
		return c.NoContent(http.StatusNoContent)
	})
}

func (s *Server) register(c *echo.Context) error {
	var r wire.Registration
	if err := body(c, &r); err != nil {
		return err
	}
	if r.ID != c.Param("id") {
		return failed(
			http.StatusBadRequest,
			"path",
			"the path names proxy %s, the body %s: they must be the same",
			c.Param("id"),
			r.ID,
		)
	}
	lease, err := s.control.Fleet.Register(r)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, lease)
}

// snapshots streams snapshots to one proxy, each as soon as something changed.
func (s *Server) snapshots(c *echo.Context) error {
	end, err := s.stream()
	if err != nil {
		return err
	}
	defer end()
	id := c.Param("id")
	detach, err := s.control.Fleet.Attach(id, c.Request().Header.Get("Nightjar-Nonce"))
	if err != nil {
		return err
	}
	defer detach()
	ctx, w := c.Request().Context(), c.Response()
	w.Header().Set("Content-Type", "application/x-ndjson")
	out := http.NewResponseController(w)
	alive := time.NewTicker(heartbeat)
	defer alive.Stop()
	write := func(line []byte) bool {
		out.SetWriteDeadline(time.Now().Add(writeTime))
		_, err := w.Write(line)
		return err == nil && out.Flush() == nil
	}
	var seen uint64
	for {
		update, changed := s.control.Fleet.Next(id, seen)
		if update != nil {
			if seen = update.Sequence; !update.IsEmpty && !write(update.Line()) {
				return nil
			}
			if !update.IsUrgent {
				changed = s.gather(ctx, id, seen, changed)
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

// gather waits for more changes of instances, unless the rules change. The channel
// that it returns is closed when something has changed already.
func (s *Server) gather(ctx context.Context, id string, seen uint64, changed <-chan struct{}) <-chan struct{} {
	t := time.NewTimer(gatherTime)
	defer t.Stop()
	next := changed
	for {
		select {
		case <-t.C:
			return changed
		case <-ctx.Done():
			return changed
		case <-next:
			changed = next
			var update *fleet.Update
			if update, next = s.control.Fleet.Next(id, seen); update != nil && update.IsUrgent {
				return changed
			}
		}
	}
}
