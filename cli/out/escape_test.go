package out

import (
	"bytes"
	"strings"
	"testing"
)

// TestNoControlCharacterPasses: whatever outsiders write, in whatever pieces it is
// written, reaches a terminal as text; colours of our own pass.
func TestNoControlCharacterPasses(t *testing.T) {
	for in, want := range map[string]string{
		"/a\x1b[2J\x1b[31m":          `/a\u001b[2J\u001b[31m`,
		"\u009b31m\u0085":            `\u009b31m\u0085`,
		"\x9b31m \xff":               `\x9b31m \xff`,
		"bell\a, back\b, return\r":   `bell\u0007, back\u0008, return\u000d`,
		"\u202egnp.exe\u2066":        `\u202egnp.exe\u2066`,
		"\x1b[0m after nothing":      `\u001b[0m after nothing`,
		"berths ☂ — naïve\n\ttab\n":  "berths ☂ — naïve\n\ttab\n",
		Paint(Red, "failed") + " ok": "\x1b[31mfailed\x1b[0m ok",
		Paint(Red, "a\x1b[8mb"):      "\x1b[31ma\\u001b[8mb\x1b[0m",
		"\x1b[31;123456789mguessed":  `\u001b[31;123456789mguessed`,
	} {
		for _, piece := range []int{len(in), 1, 2, 3} {
			if strings.Contains(in, paintKey) && piece < len(in) {
				continue // colours are written in one piece
			}
			var b bytes.Buffer
			w := Escaping(&b)
			for rest := in; len(rest) > 0; rest = rest[min(piece, len(rest)):] {
				n, err := w.Write([]byte(rest[:min(piece, len(rest))]))
				if err != nil || n != min(piece, len(rest)) {
					t.Fatal(n, err)
				}
			}
			if b.String() != want {
				t.Errorf("%q in pieces of %d: %q, want %q", in, piece, b.String(), want)
			}
		}
	}
}

// TestPaintedTables: colours of our own survive the wrapping of a table.
func TestPaintedTables(t *testing.T) {
	var b bytes.Buffer
	p := Printer{W: Escaping(&b), Format: "table", Colour: true, Width: 24}
	err := p.Show(nil, func(s *Sheet) {
		s.Table([]string{"NAME", "STATE"}, [][]string{{"x\x1b[1m", Paint(Yellow, "held since this morning by mate")}})
	})
	text := b.String()
	if err != nil || !strings.Contains(text, "\x1b[33mheld") || strings.Contains(text, "\x1b[1m") || strings.Contains(text, paintKey) {
		t.Errorf("%q, %v", text, err)
	}
}
