package rules

import (
	"slices"
	"strings"
)

// nearest returns the known name that is closest to name, or "" when none is
// close enough to be what was meant.
func nearest(name string, known []string) string {
	best, bestDist := "", len(name)/2+1
	for _, k := range known {
		if d := distance(strings.ToLower(name), strings.ToLower(k)); d < bestDist {
			best, bestDist = k, d
		}
	}
	return best
}

// distance is the edit distance of two short names: insertions, deletions and
// substitutions (R. Wagner and M. Fischer, "The String-to-String Correction
// Problem", J. ACM 21, 1974).
func distance(a, b string) int {
	if len(a) > 64 || len(b) > 64 {
		return 64
	}
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		diag := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := diag
			if a[i] != b[j] {
				cost++
			}
			diag = row[j+1]
			row[j+1] = min(cost, row[j]+1, diag+1)
		}
	}
	return row[len(b)]
}

// oneOf is the wording of "one of these names", with the nearest first.
func oneOf(name string, known []string) string {
	known = slices.Clone(known)
	slices.Sort(known)
	return oneOfSorted(name, known, true)
}

// oneOfSorted does the same for names in order; looking for the nearest takes
// time in proportion to their number.
func oneOfSorted(name string, known []string, near bool) string {
	if len(known) == 0 {
		return "a declared name; none is declared"
	}
	list := strings.Join(known[:min(len(known), 12)], ", ")
	if len(known) > 12 {
		list += ", …"
	}
	if len(known) == 1 {
		return known[0]
	}
	if near {
		if n := nearest(name, known); n != "" {
			return "one of " + list + " (nearest: " + n + ")"
		}
	}
	return "one of " + list
}

// OneOf is the wording of "one of these names", with the nearest named.
func OneOf(name string, known []string) string { return oneOf(name, known) }
