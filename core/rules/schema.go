package rules

import _ "embed"

// Schema is the JSON Schema (draft 2020-12) of one rule file: its keys, the
// shapes of their values, and what each is for. What needs more than one place
// to be told, such as a name that nothing declares, only Check can tell.
//
//go:embed schema.json
var Schema []byte
