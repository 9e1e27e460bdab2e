package api

import (
	"bytes"
	"cmp"
	"encoding/json"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"nightjar/api/dto"
	"nightjar/control"
)

// operation is one call of the API. The same list routes requests and makes
// the OpenAPI document.
type operation struct {
	method, path string
	id, summary  string
	query        []param
	in, out      any // zero values of the bodies; nil: none
	media        string
	ifMatch      string // what If-Match holds; empty: it is not read
	handle       echo.HandlerFunc
}

type param struct{ name, kind, doc string }

const ofRevision = "number of a revision in quotes; refused with 412 when another one is in force"

var byDrill = []param{{"by", "string", "who ends it"}}

var byParam = []param{{"by", "string", "whose draft it is"}}

func (s *Server) operations() []operation {
	return append(slices.Concat(s.seeing(), s.effects(), s.releases()), []operation{
		{method: "GET", path: "/fleet", id: "fleet", summary: "The proxies", out: dto.Fleet{}, handle: s.fleet},
		{method: "POST", path: "/fleet/take", id: "takeFleet", summary: "Tell proxies to follow this mesh, whatever they followed before", in: dto.Take{}, out: dto.Take{}, handle: s.take},
		{method: "GET", path: "/activity", id: "activity", summary: "What people did and what proxies saw of their guards, newest first", out: dto.Activity{},
			query: []param{{"service", "string", "only what concerns this service"}, {"before", "integer", "only what has a lower number"}, {"limit", "integer", "1 to 200; 50 when absent"}}, handle: s.activity},
		{method: "GET", path: "/drills", id: "drills", summary: "Drills that run or ran, newest first", out: dto.Drills{},
			query: []param{{"limit", "integer", "1 to 200; 50 when absent"}}, handle: s.drills},
		{method: "POST", path: "/drills", id: "startDrill", summary: "Begin a drill: harm on purpose, which ends by itself in every proxy", in: control.DrillAsk{}, out: control.Drill{}, handle: s.startDrill},
		{method: "DELETE", path: "/drills/:drill", id: "stopDrill", summary: "End a drill before its time", query: byDrill, out: control.Drill{}, handle: s.stopDrill},
		{method: "POST", path: "/rules/check", id: "check", summary: "Check the files of a bundle and compare them with what is in force", in: dto.CheckIn{}, out: control.Report{}, handle: s.check},
		{method: "POST", path: "/rules/format", id: "format", summary: "Lay rule files out anew; comments stay", in: dto.Files{}, out: dto.Files{}, handle: s.format},
		{method: "GET", path: "/rules/schema", id: "schema", summary: "The JSON Schema of a rule file", handle: s.schema},
		{method: "GET", path: "/drafts", id: "drafts", summary: "Who is working on which bundle", out: dto.Drafts{}, handle: s.drafts},
		{method: "GET", path: "/drafts/:bundle", id: "draft", summary: "The files that somebody is working on", out: dto.Draft{}, query: byParam, handle: s.draft},
		{method: "PUT", path: "/drafts/:bundle", id: "saveDraft", summary: "Keep the files that somebody is working on", in: dto.DraftIn{}, out: dto.Draft{},
			ifMatch: "version of the draft in quotes, 0 when there is none yet; refused with 412 when it has another one", handle: s.saveDraft},
		{method: "DELETE", path: "/drafts/:bundle", id: "dropDraft", summary: "Forget the files that somebody was working on", query: byParam, handle: s.dropDraft},
		{method: "GET", path: "/services/:service/effective", id: "effective", summary: "What holds for a service after policies and defaults, each value with its origin",
			out: control.Effective{}, handle: s.effective},
		{method: "GET", path: "/revisions", id: "revisions", summary: "Published revisions, newest first", out: dto.Revisions{},
			query: []param{{"before", "integer", "only revisions below this number"}, {"limit", "integer", "1 to 200; 50 when absent"}}, handle: s.revisions},
		{method: "POST", path: "/revisions", id: "publish", summary: "Publish the files of a bundle as a new revision, and wait until the proxies have it",
			in: dto.PublishIn{}, out: control.Published{}, ifMatch: ofRevision, handle: s.publish},
		{method: "GET", path: "/revisions/:number", id: "revision", summary: "One revision with its files; 0 is the one in force", out: dto.Revision{}, handle: s.revision},
		{method: "POST", path: "/revisions/:number/restore", id: "restore", summary: "Publish an earlier revision again", in: dto.RestoreIn{}, out: control.Published{}, handle: s.restore},
		{method: "POST", path: "/services/:service/split", id: "split", summary: "Change the weights of one route, as a new revision", in: dto.SplitIn{}, out: control.Published{}, ifMatch: ofRevision, handle: s.split},
		{method: "POST", path: "/explain", id: "explain", summary: "Which route takes a request, and why not the others", in: control.Ask{}, out: control.Explained{}, handle: s.explain},
		{method: "POST", path: "/calls", id: "call", summary: "Send a request through the mesh a number of times; answers lines of JSON, the last one final", in: control.Call{}, out: control.Tally{},
			media: "application/x-ndjson", handle: s.call},
	}...)
}

// body reads a JSON body strictly.
func body(c *echo.Context, into any) error {
	d := json.NewDecoder(c.Request().Body)
	d.DisallowUnknownFields()
	if err := d.Decode(into); err != nil {
		if f := asProblem(err); f.Code == "too-large" {
			return f
		}
		return problem(http.StatusBadRequest, "body", "the body cannot be read as JSON of this call: %s", strings.TrimPrefix(err.Error(), "json: "))
	}
	return nil
}

func number(c *echo.Context, name string, fallback, low, high int) (int, error) {
	text := c.QueryParam(name)
	if text == "" {
		return fallback, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < low || n > high {
		return 0, problem(http.StatusBadRequest, "query", "%s is to be a number from %d to %d, not %q", name, low, high, text)
	}
	return n, nil
}

// pageOf reads which page of a list is asked for.
func pageOf(c *echo.Context) (before uint, limit int, err error) {
	if limit, err = number(c, "limit", 50, 1, 200); err != nil {
		return 0, 0, err
	}
	n, err := number(c, "before", 0, 0, 1<<31)
	return uint(n), limit, err
}

// expected reads If-Match, which holds a number in quotes.
func expected(c *echo.Context) (*uint, error) {
	text := c.Request().Header.Get("If-Match")
	if text == "" || text == "*" {
		return nil, nil
	}
	n, err := strconv.ParseUint(strings.Trim(text, `"`), 10, 32)
	if err != nil {
		return nil, problem(http.StatusBadRequest, "if-match", "If-Match is to hold a number in quotes, not %s", text)
	}
	u := uint(n)
	return &u, nil
}

func wait(ms *int) time.Duration {
	if ms == nil {
		return 5 * time.Second
	}
	return time.Duration(max(*ms, 0)) * time.Millisecond
}

func (s *Server) take(c *echo.Context) error {
	var in dto.Take
	if err := body(c, &in); err != nil {
		return err
	}
	told, err := s.control.Take(in.Proxies)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, dto.Take{Proxies: append([]string{}, told...)})
}

func (s *Server) fleet(c *echo.Context) error {
	force := s.control.InForce()
	return c.JSON(http.StatusOK, dto.Fleet{Revision: force.Revision.Number, Since: force.Since, Proxies: s.control.Fleet()})
}

func (s *Server) check(c *echo.Context) error {
	var in dto.CheckIn
	if err := body(c, &in); err != nil {
		return err
	}
	var rep control.Report
	var err error
	if bundle := cmp.Or(in.Bundle, control.MainBundle); in.Passing {
		rep, err = s.control.Look(bundle, in.Files)
	} else {
		rep, err = s.control.Check(c.Request().Context(), bundle, in.Files, in.By)
	}
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, rep)
}

func (s *Server) revisions(c *echo.Context) error {
	before, limit, err := pageOf(c)
	if err != nil {
		return err
	}
	list, err := s.control.Revisions(c.Request().Context(), before, limit)
	if err != nil {
		return err
	}
	out := dto.Revisions{Revisions: []dto.Revision{}}
	for _, r := range list {
		out.Revisions = append(out.Revisions, dto.FromRevision(r))
	}
	if len(list) == limit && list[limit-1].Number > 1 {
		out.Next = list[limit-1].Number
	}
	return c.JSON(http.StatusOK, out)
}

func (s *Server) publish(c *echo.Context) error {
	var in dto.PublishIn
	if err := body(c, &in); err != nil {
		return err
	}
	expect, err := expected(c)
	if err != nil {
		return err
	}
	out, err := s.control.Publish(c.Request().Context(), control.Publication{Bundle: cmp.Or(in.Bundle, control.MainBundle), Files: in.Files,
		Author: in.Author, Message: in.Message, Expect: expect, Wait: wait(in.WaitMS)})
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, out)
}

func pathNumber(c *echo.Context) (uint, error) {
	n, err := strconv.ParseUint(c.Param("number"), 10, 32)
	if err != nil {
		return 0, problem(http.StatusBadRequest, "path", "%q is not the number of a revision", c.Param("number"))
	}
	return uint(n), nil
}

func (s *Server) revision(c *echo.Context) error {
	n, err := pathNumber(c)
	if err != nil {
		return err
	}
	r, err := s.control.Revision(c.Request().Context(), n)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, dto.FromRevision(r))
}

func (s *Server) restore(c *echo.Context) error {
	var in dto.RestoreIn
	if err := body(c, &in); err != nil {
		return err
	}
	n, err := pathNumber(c)
	if err != nil {
		return err
	}
	out, err := s.control.Restore(c.Request().Context(), n, in.Author, in.Message, wait(in.WaitMS))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, out)
}

func (s *Server) split(c *echo.Context) error {
	var in dto.SplitIn
	if err := body(c, &in); err != nil {
		return err
	}
	expect, err := expected(c)
	if err != nil {
		return err
	}
	out, err := s.control.Split(c.Request().Context(), c.Param("service"), in.Route, in.Weights,
		control.Publication{Author: in.Author, Message: in.Message, Expect: expect, Wait: wait(in.WaitMS)})
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, out)
}

func (s *Server) explain(c *echo.Context) error {
	var in control.Ask
	if err := body(c, &in); err != nil {
		return err
	}
	out, err := s.control.Explain(in)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, out)
}

// call streams the tally as lines of JSON while requests are on their way.
func (s *Server) call(c *echo.Context) error {
	var in control.Call
	if err := body(c, &in); err != nil {
		return err
	}
	end, err := s.stream()
	if err != nil {
		return err
	}
	defer end()
	w := c.Response()
	w.Header().Set("Content-Type", "application/x-ndjson")
	out := http.NewResponseController(w)
	var line bytes.Buffer
	err = s.control.Call(c.Request().Context(), in, func(t control.Tally) {
		line.Reset()
		if json.NewEncoder(&line).Encode(t) == nil {
			w.Write(line.Bytes())
			out.Flush()
		}
	})
	if err != nil && c.Request().Context().Err() == nil {
		return err
	}
	return nil
}
