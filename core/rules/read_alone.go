package rules

// ReadWhen reads the conditions of a `when` that stand alone, in the name of a
// file that a finding can refer to. An empty text is no condition.
func ReadWhen(name, text string) ([]Condition, []Finding) {
	r := &reader{common: &common{rules: &Rules{}, first: map[string]Origin{}}, file: name}
	root, err := parse(text)
	if err != nil {
		r.syntax(err)
	}
	if err != nil || root == nil || isNull(root) {
		return nil, r.findings
	}
	nodes := 0
	if bad, why := measure(root, 1, &nodes); bad != nil {
		r.mistake(bad, "", CodeTooLarge, why, "a smaller condition")
		return nil, r.findings
	}
	out := r.conditions(root, "when")
	return out, r.findings
}
