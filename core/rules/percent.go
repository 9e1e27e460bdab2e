package rules

import (
	"fmt"
	"strconv"
	"strings"
)

// Percent is a share in thousandths of a percent: 100% is 100,000. Weights are
// kept as integers so that sums and splits are exact.
type Percent int

// Whole is 100%.
const Whole Percent = 100_000

// ParsePercent reads a number from 0 to 100 with up to three decimals; a final
// % is allowed.
func ParsePercent(s string) (Percent, error) {
	text := strings.TrimSuffix(strings.TrimSpace(s), "%")
	whole, frac, dotted := strings.Cut(text, ".")
	n, err := strconv.ParseUint(whole, 10, 16)
	if err != nil || n > 100 || (dotted && frac == "") || strings.HasPrefix(whole, "+") {
		return 0, fmt.Errorf("%q is not a percentage from 0 to 100", s)
	}
	if len(frac) > 3 {
		return 0, fmt.Errorf("%q has more than three decimals", s)
	}
	p := Percent(n) * 1000
	if dotted {
		f, err := strconv.ParseUint((frac + "00")[:3], 10, 16)
		if err != nil {
			return 0, fmt.Errorf("%q is not a percentage from 0 to 100", s)
		}
		p += Percent(f)
	}
	if p > Whole {
		return 0, fmt.Errorf("%q is more than 100", s)
	}
	return p, nil
}

// String writes the percentage without a sign and without idle zeros: 85, 33.333.
func (p Percent) String() string {
	s := fmt.Sprintf("%d.%03d", p/1000, p%1000)
	return strings.TrimSuffix(strings.TrimRight(s, "0"), ".")
}

// Share is the percentage as a fraction of one.
func (p Percent) Share() float64 { return float64(p) / float64(Whole) }
