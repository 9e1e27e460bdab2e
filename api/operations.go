package api

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"reflect"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"nightjar/api/model"
	"nightjar/control/people"
)

// Operation is one call of the API. The same list routes requests and makes the
// OpenAPI document.
type Operation struct {
	Method  string
	Path    string // below /api/v1, with :NAME for parameters
	ID      string
	Summary string
	Params  []Param     // of the query
	In      any         // zero value of the body of the request; nil: none
	Out     any         // zero value of the body of the response
	Media   string      // type of the response
	Status  int         // of success
	Also    int         // another status of success; 0: there is none
	IfMatch string      // what If-Match holds; empty: it is not read
	Needs   people.Role // who may call it; empty: admins
	// IsForTeams: those who belong to a team may call it, for their part. Without it, it is
	// for the platform alone.
	IsForTeams bool
	handle     echo.HandlerFunc
}

// Param is a parameter of the query.
type Param struct {
	Name string
	Kind string // type of JSON Schema: string or integer
	Doc  string
}

// Operations lists all operations, to describe them.
func Operations() []Operation { return (&Server{}).operations() }

var (
	beforeParam = Param{"before", "integer", "only entries below this number"}
	pageParams  = []Param{beforeParam, {"limit", "integer", "1 to 200; 50 when absent"}}
	limitParam  = Param{"limit", "integer", "1 to 1000; 100 when absent"}
)

const revisionMatch = "number of the revision in force in quotes, or *; 412 when another one is in force"

// get is an operation that reads.
func get[Out any](path, id, summary string, do func(c *echo.Context) (Out, error), params ...Param) Operation {
	var out Out
	return Operation{
		Method:  http.MethodGet,
		Path:    path,
		ID:      id,
		Summary: summary,
		Params:  params,
		Out:     out,
		Media:   "application/json",
		Status:  http.StatusOK,
		Needs:   people.Viewer,
		handle: func(c *echo.Context) error {
			v, err := do(c)
			if err != nil {
				return err
			}
			return c.JSON(http.StatusOK, v)
		},
	}
}

// remove is an operation that ends or deletes something and answers what is left of
// it.
func remove[Out any](path, id, summary string, do func(c *echo.Context) (Out, error), params ...Param) Operation {
	op := get(path, id, summary, do, params...)
	op.Method, op.Needs = http.MethodDelete, people.Editor
	return op
}

// act is an operation that changes something, and says all in its path.
func act[Out any](path, id, summary string, do func(c *echo.Context) (Out, error)) Operation {
	op := get(path, id, summary, do)
	op.Method, op.Needs = http.MethodPost, people.Editor
	return op
}

// send is an operation with a body.
func send[In, Out any](method, path, id, summary string, do func(c *echo.Context, in In) (Out, error)) Operation {
	return withBody(method, http.StatusOK, path, id, summary, do)
}

// create is an operation that creates something.
func create[In, Out any](path, id, summary string, do func(c *echo.Context, in In) (Out, error)) Operation {
	return withBody(http.MethodPost, http.StatusCreated, path, id, summary, do)
}

// withBody is an operation with a body, that answers with a status.
func withBody[In, Out any](
	method string,
	status int,
	path, id, summary string,
	do func(c *echo.Context, in In) (Out, error),
) Operation {
	var in In
	var out Out
	return Operation{
		Method:  method,
		Path:    path,
		ID:      id,
		Summary: summary,
		In:      in,
		Out:     out,
		Media:   "application/json",
		Status:  status,
		Needs:   people.Editor,
		handle: func(c *echo.Context) error {
			var in In
			if err := body(c, &in); err != nil {
				return err
			}
			v, err := do(c, in)
			if err != nil {
				return err
			}
			return c.JSON(statusOf(v, status), v)
		},
	}
}

// orUnchanged is the operation with status 200 too, for when there is nothing new.
func (op Operation) orUnchanged() Operation {
	op.Also = http.StatusOK
	return op
}

// statusOf is the status of a success: 200 instead of 201 when there is nothing new.
func statusOf(v any, usual int) int {
	if p, isPublished := v.(model.Published); isPublished && p.IsUnchanged {
		return http.StatusOK
	}
	return usual
}

// needing is the operation for those who have a role.
func (op Operation) needing(role people.Role) Operation {
	op.Needs = role
	return op
}

// forTeams is the operation for those who belong to a team too: it holds them to their part.
func (op Operation) forTeams() Operation {
	op.IsForTeams = true
	return op
}

// matching is the operation with an If-Match.
func (op Operation) matching(doc string) Operation {
	op.IfMatch = doc
	return op
}

func (s *Server) operations() []Operation {
	var all []Operation
	parts := [][]Operation{s.meshOperations(), s.requestOperations(), s.effectOperations(), s.trialOperations(),
		s.releaseOperations(), s.fleetOperations(), s.siteOperations(), s.upgradeOperations(), s.memberOperations(),
		s.ruleOperations(), s.revisionOperations(),
		s.followOperations(), s.peopleOperations(), s.signOnOperations()}
	for _, part := range parts {
		all = append(all, part...)
	}
	return all
}

// body reads a JSON body strictly.
func body(c *echo.Context, into any) error {
	d := json.NewDecoder(c.Request().Body)
	d.DisallowUnknownFields()
	if err := d.Decode(into); err != nil {
		if f := asProblem(err); f.Code == "too-large" {
			return f
		}
		return failed(
			http.StatusBadRequest,
			"body",
			"the body is not the JSON of this call: %s. See /api/v1/openapi.json",
			bodyError(err),
		)
	}
	if _, err := d.Token(); err != io.EOF {
		if f := asProblem(err); err != nil && f.Code == "too-large" {
			return f
		}
		return failed(
			http.StatusBadRequest,
			"body",
			"there is more after the JSON of this call: send one value. See /api/v1/openapi.json",
		)
	}
	return nil
}

// bodyError says in terms of JSON why a body cannot be read.
func bodyError(err error) string {
	var wrongType *json.UnmarshalTypeError
	switch {
	case errors.As(err, &wrongType):
		where := cmp.Or(wrongType.Field, "the body")
		return fmt.Sprintf("%s: expected %s, found %s", where, jsonType(wrongType.Type), wrongType.Value)
	case errors.Is(err, io.EOF):
		return "it is empty"
	case errors.Is(err, io.ErrUnexpectedEOF):
		return "it ends too early"
	}
	return strings.TrimPrefix(err.Error(), "json: ")
}

// jsonType is what JSON calls the values of a type.
func jsonType(t reflect.Type) string {
	switch t.Kind() {
	case reflect.Bool:
		return "bool"
	case reflect.String:
		return "string"
	case reflect.Slice, reflect.Array:
		return "array"
	case reflect.Struct, reflect.Map:
		return "object"
	}
	return "number"
}

// number reads a whole number of the query.
func number(c *echo.Context, name string, absent, low, high int) (int, error) {
	text := c.QueryParam(name)
	if text == "" {
		return absent, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < low || n > high {
		return 0, failed(
			http.StatusBadRequest,
			"query",
			"%s must be a number from %d to %d, not %q",
			name,
			low,
			high,
			text,
		)
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

// readPage reads the page of a list that a request asks for. next is the value of
// "before" that requests the next page; 0: this is the last. number returns the number
// of an entry.
func readPage[T any](
	c *echo.Context,
	read func(ctx context.Context, before uint, limit int) ([]T, error),
	number func(*T) uint,
) (page []T, next uint, err error) {
	before, limit, err := pageOf(c)
	if err != nil {
		return nil, 0, err
	}
	page, err = read(c.Request().Context(), before, limit)
	if n := len(page); n > 0 && n >= limit {
		next = number(&page[n-1])
	}
	if next == 1 {
		next = 0 // there is none below
	}
	return page, next, err
}

// expected reads If-Match, which holds a number in quotes; nil: *, for whatever there is.
// missing is what a call without it is told.
func expected(c *echo.Context, missing string) (*uint, error) {
	text := c.Request().Header.Get("If-Match")
	switch text {
	case "":
		return nil, failed(http.StatusPreconditionRequired, "if-match", "%s", missing)
	case "*":
		return nil, nil
	}
	n, err := strconv.ParseUint(strings.Trim(text, `"`), 10, 32)
	if err != nil {
		return nil, failed(http.StatusBadRequest, "if-match", "If-Match must hold a number in quotes, not %s", text)
	}
	u := uint(n)
	return &u, nil
}

// pathNumber reads a number that is part of the path.
func pathNumber(c *echo.Context, name, what string) (uint, error) {
	n, err := strconv.ParseUint(c.Param(name), 10, 32)
	if err != nil {
		return 0, failed(http.StatusBadRequest, "path", "%q is not the number of a %s", c.Param(name), what)
	}
	return uint(n), nil
}

// usualWait is how long a publish waits for acknowledgements when nobody says.
const usualWait = 5 * time.Second

func wait(ms *int) time.Duration {
	if ms == nil {
		return usualWait
	}
	return time.Duration(max(*ms, 0)) * time.Millisecond
}
