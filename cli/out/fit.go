package out

import (
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"
)

const (
	// gap is the number of spaces between columns.
	gap = 2

	// narrowest is how far a column of text is narrowed at most: below it, one word a
	// line is left, and a table is read worse than a line that the terminal wraps.
	narrowest = 10
)

// Columns returns the width of the terminal that f is; 0: f is none.
func Columns(f *os.File) int {
	width, _, err := term.GetSize(int(f.Fd()))
	if err != nil {
		return 0
	}
	return width
}

// fit returns the width that each column is wrapped to (0: it keeps its own) so that
// the table fits into the width of the sheet. Cells wrap between words; a column of
// numbers wraps in its header alone. The column that has most to give goes first. When
// all have given what they can, the table stays wider than the sheet.
func (s *Sheet) fit(header []string, rows [][]string) []int {
	limits := make([]int, len(header))
	if s.Width == 0 {
		return limits
	}
	widths, least := make([]int, len(header)), make([]int, len(header))
	excess := -gap - s.Width
	for i, h := range header {
		name, isNumber := strings.CutSuffix(h, ">")
		widths[i], least[i] = text.StringWidth(name), longestWord(name)
		if !isNumber {
			least[i] = max(least[i], narrowest)
		}
		for _, r := range rows {
			width := text.StringWidthWithoutEscSequences(r[i])
			widths[i] = max(widths[i], width)
			if isNumber {
				least[i] = max(least[i], width)
			} else {
				least[i] = max(least[i], longestWord(r[i]))
			}
		}
		excess += widths[i] + gap
	}
	for ; excess > 0; excess-- {
		most := 0
		for i := range widths {
			if widths[i]-least[i] > widths[most]-least[most] {
				most = i
			}
		}
		if widths[most] <= least[most] {
			break
		}
		widths[most]--
		limits[most] = widths[most]
	}
	return limits
}

// wrap breaks lines that are too long for the sheet between words. What continues
// stands below the first word of its line.
func (s *Sheet) wrap(lines string) string {
	all := strings.Split(lines, "\n")
	for i, line := range all {
		if s.Width == 0 || text.StringWidthWithoutEscSequences(line) <= s.Width {
			continue
		}
		words := strings.TrimLeft(line, " ·")
		indent := text.StringWidth(line) - text.StringWidth(words)
		parts := strings.Split(text.WrapSoft(words, max(s.Width-indent, narrowest)), "\n")
		for j, part := range parts {
			parts[j] = strings.TrimRight(part, " ")
		}
		all[i] = strings.TrimSuffix(line, words) + strings.Join(parts, "\n"+strings.Repeat(" ", indent))
	}
	return strings.Join(all, "\n")
}

// longestWord returns the width of the longest word of a cell.
func longestWord(cell string) int {
	longest := 0
	for _, w := range strings.Fields(cell) {
		longest = max(longest, text.StringWidthWithoutEscSequences(w))
	}
	return longest
}
