package out

import (
	"encoding/json"
	"io"

	"nightjar/core/rules"
)

// SARIF writes findings in the Static Analysis Results Interchange Format
// (OASIS SARIF 2.1.0), which CI systems read.
func SARIF(w io.Writer, program string, found []rules.Finding) error {
	type text struct {
		Text string `json:"text"`
	}
	type object = map[string]any
	place := func(o rules.Origin) object {
		return object{"physicalLocation": object{"artifactLocation": object{"uri": o.File},
			"region": object{"startLine": max(o.Line, 1), "startColumn": max(o.Col, 1)}}}
	}
	level := map[rules.Severity]string{rules.Mistake: "error", rules.Warning: "warning"}
	kinds, index := []object{}, map[rules.Code]int{}
	for i, k := range rules.Kinds() {
		index[k.Code] = i
		kinds = append(kinds, object{"id": k.Code, "shortDescription": text{k.Means}, "defaultConfiguration": object{"level": level[k.Severity]}})
	}
	results := []object{}
	for _, f := range found {
		message := f.Message
		if f.Expected != "" {
			message += "; expected " + f.Expected
		}
		at := place(f.At)
		if f.Path != "" {
			at["logicalLocations"] = []object{{"fullyQualifiedName": f.Path}}
		}
		r := object{"ruleId": f.Code, "ruleIndex": index[f.Code], "level": level[f.Severity], "message": text{message}, "locations": []object{at}}
		if f.Also != nil {
			also := place(*f.Also)
			also["message"] = text{"the other place"}
			r["relatedLocations"] = []object{also}
		}
		results = append(results, r)
	}
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(object{"version": "2.1.0", "$schema": "https://json.schemastore.org/sarif-2.1.0.json", "runs": []object{{
		"tool":       object{"driver": object{"name": "nightjar", "version": program, "rules": kinds}},
		"columnKind": "unicodeCodePoints", "results": results}}})
}
