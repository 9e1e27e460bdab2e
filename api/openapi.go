package api

import (
	"bytes"
	"encoding/json"
	"reflect"
	"strings"

	"github.com/invopop/jsonschema"

	"nightjar/api/dto"
)

// OpenAPI makes the OpenAPI 3.1 document from the operations and the types of
// their bodies.
func OpenAPI() ([]byte, error) {
	schemas := map[string]any{}
	r := &jsonschema.Reflector{Anonymous: true, AllowAdditionalProperties: true, Namer: schemaName, LookupComment: fieldDoc}
	ref := func(v any) map[string]any {
		schema := r.Reflect(v)
		for name, def := range schema.Definitions {
			schemas[name] = def
		}
		return map[string]any{"$ref": "#/$defs/" + schemaName(reflect.TypeOf(v))}
	}
	content := func(media string, v any) map[string]any {
		return map[string]any{media: map[string]any{"schema": ref(v)}}
	}
	fault := map[string]any{"description": "What is wrong and what to do next", "content": content("application/problem+json", dto.Problem{})}
	paths := map[string]map[string]any{}
	for _, op := range (&Server{}).operations() {
		path, params := "/api/v1", []any{}
		for part := range strings.SplitSeq(strings.TrimPrefix(op.path, "/"), "/") {
			if name, ok := strings.CutPrefix(part, ":"); ok {
				part = "{" + name + "}"
				params = append(params, map[string]any{"name": name, "in": "path", "required": true, "schema": map[string]any{"type": "string"}})
			}
			path += "/" + part
		}
		for _, q := range op.query {
			params = append(params, map[string]any{"name": q.name, "in": "query", "description": q.doc, "schema": map[string]any{"type": q.kind}})
		}
		if op.ifMatch != "" {
			params = append(params, map[string]any{"name": "If-Match", "in": "header", "schema": map[string]any{"type": "string"},
				"description": op.ifMatch})
		}
		status, media := "200", op.media
		if op.method == "POST" && (op.id == "publish" || op.id == "restore" || op.id == "split") {
			status = "201"
		}
		if media == "" {
			media = "application/json"
		}
		good := map[string]any{"description": "OK"}
		switch {
		case op.out != nil:
			good["content"] = content(media, op.out)
		case op.method == "DELETE":
			status = "204"
		default:
			good["content"] = map[string]any{media: map[string]any{"schema": map[string]any{"type": "object"}}}
		}
		o := map[string]any{"operationId": op.id, "summary": op.summary, "parameters": params,
			"responses": map[string]any{status: good, "default": fault}}
		if op.in != nil {
			o["requestBody"] = map[string]any{"required": true, "content": content("application/json", op.in)}
		}
		if paths[path] == nil {
			paths[path] = map[string]any{}
		}
		paths[path][strings.ToLower(op.method)] = o
	}
	doc, err := json.MarshalIndent(map[string]any{"openapi": "3.1.0", "info": map[string]any{"title": "Nightjar", "version": "1"},
		"paths": paths, "components": map[string]any{"schemas": schemas}}, "", "  ")
	return bytes.ReplaceAll(doc, []byte("#/$defs/"), []byte("#/components/schemas/")), err
}

// schemaName keeps types of one name in two packages apart.
func schemaName(t reflect.Type) string {
	pkg := t.PkgPath()[strings.LastIndexByte(t.PkgPath(), '/')+1:]
	switch pkg {
	case "control", "dto", "":
		return t.Name()
	}
	return strings.ToUpper(pkg[:1]) + pkg[1:] + t.Name()
}

// fieldDoc is the doc tag of a field.
func fieldDoc(t reflect.Type, field string) string {
	if t.Kind() != reflect.Struct || field == "" {
		return ""
	}
	f, _ := t.FieldByName(field)
	return f.Tag.Get("doc")
}
