// Package contract holds calls and answers of the API against its OpenAPI document:
// what is not in the document is an error, in either.
package contract

import (
	"bytes"
	"encoding/json"
	"fmt"
	"mime"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"nightjar/api/change"
)

// Contract is the document. It is safe for concurrent use.
type Contract struct {
	operations []*operation
	compiler   *jsonschema.Compiler

	mu      sync.Mutex // guards what follows
	schemas map[string]*jsonschema.Schema
	seen    map[string]bool // operations with a success, by id
}

type operation struct {
	id       string
	method   string
	pattern  []string // segments; {name} stands for any
	params   map[string]bool
	headers  map[string]bool
	body     string                       // pointer to the schema of the body; empty: there is none
	statuses map[string]map[string]string // pointers to schemas by media type and status
}

// base is the address of the document for references within it.
const base = "file:///openapi.json"

// New reads a document.
func New(document []byte) (*Contract, error) {
	whole, err := jsonschema.UnmarshalJSON(bytes.NewReader(document))
	if err != nil {
		return nil, err
	}
	seal(whole)
	c := &Contract{compiler: jsonschema.NewCompiler(), schemas: map[string]*jsonschema.Schema{}, seen: map[string]bool{}}
	c.compiler.DefaultDraft(jsonschema.Draft2020)
	if err := c.compiler.AddResource(base, whole); err != nil {
		return nil, err
	}
	var doc struct {
		Paths map[string]map[string]struct {
			ID         string `json:"operationId"`
			Parameters []struct{ Name, In string }
			Body       *struct {
				Content map[string]any
			} `json:"requestBody"`
			Responses map[string]struct {
				Content map[string]struct{ Schema any }
			}
		}
	}
	if err := json.Unmarshal(document, &doc); err != nil {
		return nil, err
	}
	escape := strings.NewReplacer("~", "~0", "/", "~1")
	for path, methods := range doc.Paths {
		for method, op := range methods {
			at := base + "#/paths/" + escape.Replace(path) + "/" + method
			o := &operation{
				id: op.ID, method: strings.ToUpper(method), pattern: strings.Split(path, "/"),
				params: map[string]bool{}, headers: map[string]bool{}, statuses: map[string]map[string]string{},
			}
			for _, p := range op.Parameters {
				switch p.In {
				case "query":
					o.params[p.Name] = true
				case "header":
					o.headers[http.CanonicalHeaderKey(p.Name)] = true
				}
			}
			if op.Body != nil {
				o.body = at + "/requestBody/content/application~1json/schema"
			}
			for status, r := range op.Responses {
				o.statuses[status] = map[string]string{}
				for media, content := range r.Content {
					schema := ""
					if content.Schema != nil {
						schema = at + "/responses/" + status + "/content/" + escape.Replace(media) + "/schema"
					}
					o.statuses[status][media] = schema
				}
			}
			c.operations = append(c.operations, o)
		}
	}
	return c, nil
}

// seal lets objects have the properties that are declared, and no others.
func seal(node any) {
	switch n := node.(type) {
	case []any:
		for _, one := range n {
			seal(one)
		}
	case map[string]any:
		for _, one := range n {
			seal(one)
		}
		_, hasProperties := n["properties"].(map[string]any)
		if _, says := n["additionalProperties"]; hasProperties && !says && n["type"] != nil {
			n["additionalProperties"] = false
		}
	}
}

// find is the operation of a request; nil: there is none.
func (c *Contract) find(method, path string) *operation {
	parts := strings.Split(path, "/")
	var found *operation
	for _, o := range c.operations {
		if o.method != method || len(o.pattern) != len(parts) {
			continue
		}
		isIt, isExact := true, true
		for i, p := range o.pattern {
			isName := strings.HasPrefix(p, "{")
			isExact = isExact && !isName
			isIt = isIt && (isName || p == parts[i])
		}
		if isIt && (found == nil || isExact) {
			found = o
		}
	}
	return found
}

// Answer is what a call was answered. Of a stream, Body is a part of it that ends with a
// whole line.
type Answer struct {
	Status int
	Header http.Header
	Body   []byte
}

// Check tells what of a call, or of its answer, is not in the document; nil: all is.
// Paths that are no part of the API are passed over.
func (c *Contract) Check(r *http.Request, body []byte, a Answer) error {
	if !strings.HasPrefix(r.URL.Path, "/api/v1/") || r.URL.Path == "/api/v1/openapi.json" {
		return nil
	}
	o := c.find(r.Method, r.URL.EscapedPath())
	if o == nil {
		if a.Status == http.StatusNotFound || a.Status == http.StatusMethodNotAllowed {
			return nil
		}
		return fmt.Errorf("%s %s is not in the document, and answers %d", r.Method, r.URL.Path, a.Status)
	}
	err := c.answer(o, a)
	if err == nil && a.Status < 300 {
		err = c.call(o, r, body)
	}
	if err != nil {
		return fmt.Errorf("%s %s (%s): %w", r.Method, r.URL, o.id, err)
	}
	if a.Status < 300 {
		c.mu.Lock()
		c.seen[o.id] = true
		c.mu.Unlock()
	}
	return nil
}

// call checks a call that succeeded.
func (c *Contract) call(o *operation, r *http.Request, body []byte) error {
	for name := range r.URL.Query() {
		if !o.params[name] {
			return fmt.Errorf("the parameter %s is taken, and not in the document", name)
		}
	}
	if o.headers["If-Match"] && r.Header.Get("If-Match") == "" {
		return fmt.Errorf("it is carried out without If-Match")
	}
	if o.body == "" {
		return nil
	}
	return c.fits(o.body, body, "the body of the call")
}

// answer checks an answer.
func (c *Contract) answer(o *operation, a Answer) error {
	status := strconv.Itoa(a.Status)
	content, isKnown := o.statuses[status]
	if !isKnown && a.Status >= 400 {
		content, isKnown = o.statuses["default"]
	}
	if !isKnown {
		return fmt.Errorf("status %d is not in the document", a.Status)
	}
	if a.Status == http.StatusNoContent {
		return nil
	}
	media, _, _ := mime.ParseMediaType(a.Header.Get("Content-Type"))
	schema, isKnown := content[media]
	switch {
	case !isKnown:
		return fmt.Errorf("status %d as %q is not in the document", a.Status, media)
	case schema == "" || media == "text/html" || media == "application/schema+json":
		return nil
	case media == "application/x-ndjson":
		for line := range bytes.Lines(a.Body) {
			if err := c.fits(schema, line, "a line"); err != nil {
				return err
			}
		}
		return nil
	case media == "text/event-stream":
		return c.events(schema, a.Body)
	}
	return c.fits(schema, a.Body, fmt.Sprintf("the answer %d", a.Status))
}

// events checks a stream of events. What one named change makes of the event before it is
// checked as that is.
func (c *Contract) events(schema string, stream []byte) error {
	var newest any
	kind := ""
	for line := range bytes.Lines(stream) {
		if name, isName := bytes.CutPrefix(line, []byte("event: ")); isName {
			kind = string(bytes.TrimSpace(name))
		}
		data, isData := bytes.CutPrefix(line, []byte("data: "))
		if !isData {
			continue
		}
		var read any
		if err := json.Unmarshal(data, &read); err != nil {
			return fmt.Errorf("an event is no JSON: %w", err)
		}
		if kind == "change" {
			var err error
			if newest, err = change.Apply(newest, read); err != nil {
				return fmt.Errorf("a change that cannot be applied: %w", err)
			}
		} else {
			newest = read
		}
		text, err := json.Marshal(newest)
		if err != nil {
			return err
		}
		if err := c.fits(schema, text, "an event"); err != nil {
			return err
		}
	}
	return nil
}

// fits checks JSON against a schema of the document.
func (c *Contract) fits(at string, text []byte, what string) error {
	c.mu.Lock()
	schema := c.schemas[at]
	if schema == nil {
		var err error
		if schema, err = c.compiler.Compile(at); err != nil {
			c.mu.Unlock()
			return fmt.Errorf("its schema: %w", err)
		}
		c.schemas[at] = schema
	}
	c.mu.Unlock()
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		return fmt.Errorf("%s is no JSON: %w", what, err)
	}
	if err := schema.Validate(v); err != nil {
		return fmt.Errorf("%s is not as the document says: %w", what, err)
	}
	return nil
}

// Unseen are the operations that had no success yet.
func (c *Contract) Unseen() (ids []string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, o := range c.operations {
		if !c.seen[o.id] {
			ids = append(ids, o.id)
		}
	}
	slices.Sort(ids)
	return ids
}
