// Package openapi makes the OpenAPI document of the API. It is a package of its own, so
// that the program does not link what only the build needs.
package openapi

import (
	"encoding/json"
	"errors"
	"go/ast"
	"go/parser"
	"go/token"
	"net/http"
	"path/filepath"
	"reflect"
	"runtime"
	"strconv"
	"strings"

	"github.com/swaggest/jsonschema-go"
	"github.com/swaggest/openapi-go"
	"github.com/swaggest/openapi-go/openapi31"

	"nightjar/api"
	"nightjar/api/model"
	"nightjar/control/people"
)

// The ways to prove who calls.
const byToken, bySession = "token", "session"

// Document makes the OpenAPI 3.1 document from the operations and the types of their
// bodies.
func Document() ([]byte, error) {
	described, err := readComments()
	if err != nil {
		return nil, err
	}
	r := openapi31.NewReflector()
	r.Spec.Info.WithTitle("Nightjar").WithVersion("1")
	r.Spec.SetHTTPBearerTokenSecurity(byToken, "", "An access token. The first role of a call is the one that it needs: "+
		"viewer, editor or admin, each of which may do what those before it may. With team, those who belong to a team may "+
		"make it too, for their part; without, the platform alone may")
	r.Spec.SetAPIKeySecurity(bySession, "nightjar-PORT", openapi.InCookie, "A session of the console; by TLS the name "+
		"begins with __Host-. The user of the service's machine needs neither, by its socket")
	r.JSONSchemaReflector().DefaultOptions = append(r.JSONSchemaReflector().DefaultOptions,
		jsonschema.InterceptDefName(func(t reflect.Type, _ string) string { return t.Name() }),
		jsonschema.InterceptNullability(onlyPointersAreNullable),
		jsonschema.InterceptProp(described.describe))
	for _, op := range api.Operations() {
		oc, err := r.NewOperationContext(op.Method, "/api/v1"+bracePath(op.Path))
		if err != nil {
			return nil, err
		}
		oc.SetID(op.ID)
		oc.SetSummary(op.Summary)
		if op.Needs != people.Anyone {
			roles := []string{string(op.Needs)}
			if op.IsForTeams {
				roles = append(roles, "team")
			}
			oc.AddSecurity(byToken, roles...)
			oc.AddSecurity(bySession, roles...)
		}
		oc.AddReqStructure(parameters(&op))
		if op.In != nil {
			oc.AddReqStructure(op.In, openapi.WithContentType("application/json"))
		}
		for _, status := range []int{op.Status, op.Also} {
			if status == 0 {
				continue
			}
			oc.AddRespStructure(op.Out, func(u *openapi.ContentUnit) {
				u.HTTPStatus, u.ContentType, u.Description = status, op.Media, http.StatusText(status)
			})
		}
		oc.AddRespStructure(model.Problem{}, func(u *openapi.ContentUnit) {
			u.IsDefault, u.ContentType = true, "application/problem+json"
			u.Description = "What happened, why, and what to do next"
		})
		if err := r.AddOperation(oc); err != nil {
			return nil, err
		}
	}
	return json.MarshalIndent(r.Spec, "", "  ")
}

// bracePath is a path with {name} in place of :name.
func bracePath(path string) string {
	parts := strings.Split(path, "/")
	for i, part := range parts {
		if name, ok := strings.CutPrefix(part, ":"); ok {
			parts[i] = "{" + name + "}"
		}
	}
	return strings.Join(parts, "/")
}

// parameters is a struct whose fields are the parameters of an operation, tagged as
// the reflector reads them.
func parameters(op *api.Operation) any {
	var fields []reflect.StructField
	add := func(kind reflect.Type, in, name, doc string) {
		tag := in + ":" + strconv.Quote(name)
		if doc != "" {
			tag += " description:" + strconv.Quote(doc)
		}
		fields = append(
			fields,
			reflect.StructField{Name: "P" + strconv.Itoa(len(fields)), Type: kind, Tag: reflect.StructTag(tag)},
		)
	}
	text, whole := reflect.TypeFor[string](), reflect.TypeFor[int64]()
	for part := range strings.SplitSeq(op.Path, "/") {
		if name, ok := strings.CutPrefix(part, ":"); ok {
			add(text, "path", name, "")
		}
	}
	for _, p := range op.Params {
		kind := text
		switch p.Kind {
		case "integer":
			kind = whole
		case "boolean":
			kind = reflect.TypeFor[bool]()
		}
		add(kind, "query", p.Name, p.Doc)
	}
	if op.IfMatch != "" {
		add(text, "header", "If-Match", op.IfMatch)
	}
	return reflect.New(reflect.StructOf(fields)).Elem().Interface()
}

// onlyPointersAreNullable: lists and maps are never null.
func onlyPointersAreNullable(p jsonschema.InterceptNullabilityParams) {
	if p.NullAdded && p.Type.Kind() != reflect.Pointer {
		p.Schema.RemoveType(jsonschema.Null)
	}
}

// describe adds the comment on a field as its description, and requires fields that
// are always there.
func (c comments) describe(p jsonschema.InterceptPropParams) error {
	if !p.Processed {
		return nil
	}
	if text := c.of(p.ParentSchema.ReflectType, p.Field.Name); text != "" {
		p.PropertySchema.WithDescription(text)
	}
	name, options, ok := strings.Cut(p.Field.Tag.Get("json"), ",")
	if ok = ok || name != ""; ok && !strings.Contains(options, "omit") {
		p.ParentSchema.Required = append(p.ParentSchema.Required, p.Name)
	}
	return nil
}

// comments are the comments on the fields of the model, by type and field.
type comments map[string]map[string]string

// of is the comment on a field of a type, or of a type that is embedded in it.
func (c comments) of(t reflect.Type, field string) string {
	for t != nil && t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if t == nil || t.Kind() != reflect.Struct {
		return ""
	}
	if f, ok := t.FieldByName(field); ok {
		for _, i := range f.Index[:len(f.Index)-1] {
			t = t.Field(i).Type
		}
	}
	return c[t.Name()][field]
}

// readComments reads the comments in the source of the model.
func readComments() (comments, error) {
	_, here, _, _ := runtime.Caller(0)
	files, err := filepath.Glob(filepath.Join(filepath.Dir(here), "..", "model", "*.go"))
	if err != nil || len(files) == 0 {
		missing := errors.New("the source of the model is missing: build in the source tree, without -trimpath")
		return nil, errors.Join(missing, err)
	}
	out := comments{}
	for _, file := range files {
		tree, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ParseComments)
		if err != nil {
			return nil, err
		}
		ast.Inspect(tree, func(n ast.Node) bool {
			named, ok := n.(*ast.TypeSpec)
			if !ok {
				return true
			}
			fields, ok := named.Type.(*ast.StructType)
			if !ok {
				return false
			}
			out[named.Name.Name] = commentsOf(fields)
			return false
		})
	}
	return out, nil
}

func commentsOf(s *ast.StructType) map[string]string {
	out := map[string]string{}
	for _, f := range s.Fields.List {
		text := strings.Join(strings.Fields(f.Doc.Text()+" "+f.Comment.Text()), " ")
		for _, name := range f.Names {
			out[name.Name] = text
		}
	}
	return out
}
