package openapi

import (
	"bytes"
	"encoding/json"
	"os"
	"strings"
	"testing"
)

// TestDocument: the committed document is that of the operations, and every
// reference in it leads somewhere.
func TestDocument(t *testing.T) {
	made, err := Document()
	if err != nil {
		t.Fatal(err)
	}
	committed, err := os.ReadFile("../openapi.json")
	if err != nil || !bytes.Equal(bytes.TrimSpace(committed), bytes.TrimSpace(made)) {
		t.Errorf("api/openapi.json is out of date: make types (%v)", err)
	}
	var doc struct {
		OpenAPI    string
		Paths      map[string]any
		Components struct{ Schemas map[string]any }
	}
	if err := json.Unmarshal(made, &doc); err != nil {
		t.Fatal(err)
	}
	refs := 0
	for _, part := range strings.Split(string(made), `"$ref": "`)[1:] {
		ref, _, _ := strings.Cut(part, `"`)
		refs++
		if name, ok := strings.CutPrefix(ref, "#/components/schemas/"); !ok || doc.Components.Schemas[name] == nil {
			t.Errorf("%s leads nowhere", ref)
		}
	}
	if doc.OpenAPI != "3.1.0" || len(doc.Paths) < 10 || refs < 30 {
		t.Errorf("version %s, %d paths, %d references", doc.OpenAPI, len(doc.Paths), refs)
	}
}
