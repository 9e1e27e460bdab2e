// Package examples holds the sample rules inside the binary.
package examples

import _ "embed"

// FerryRules is the rule file of the sample mesh, and FerryName where it lies.
//
//go:embed ferry/rules.yaml
var FerryRules string

const FerryName = "examples/ferry/rules.yaml"
