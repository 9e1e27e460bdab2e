// Package out prints the results of commands, in every format.
package out

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"go.yaml.in/yaml/v4"
)

// Formats are the values of -o.
var Formats = []string{"table", "wide", "json", "yaml", "csv"}

// Printer prints in one format.
type Printer struct {
	W      io.Writer
	Format string
	Lines  bool // JSON is one line

	// What the page is shown on, when W is not itself a terminal.
	Colour bool // use colours
	Width  int  // columns; 0: no limit
}

// Show prints v as JSON or YAML, or what draw draws for the other formats.
func (p *Printer) Show(v any, draw func(*Sheet)) error {
	switch p.Format {
	case "json":
		e := json.NewEncoder(p.W)
		if !p.Lines {
			e.SetIndent("", "  ")
		}
		e.SetEscapeHTML(false)
		return e.Encode(v)
	case "yaml":
		// By way of JSON, so that both formats have the same names.
		b, err := json.Marshal(v)
		if err != nil {
			return err
		}
		var doc yaml.Node
		if err := yaml.Load(b, &doc); err != nil {
			return err
		}
		block(&doc)
		text, err := yaml.Dump(&doc, yaml.WithIndent(2))
		if err != nil {
			return err
		}
		_, err = p.W.Write(text)
		return err
	}
	s := &Sheet{
		w:      p.W,
		CSV:    p.Format == "csv",
		Wide:   p.Format == "wide",
		Colour: p.Colour,
		Width:  p.Width,
	}
	if f := File(p.W); f != nil && !s.CSV {
		s.Colour, s.Width = Terminal(f), Columns(f)
	}
	draw(s)
	return s.err
}

// block turns JSON's brackets into YAML's lines.
func block(n *yaml.Node) {
	n.Style = 0
	if (n.Kind == yaml.MappingNode || n.Kind == yaml.SequenceNode) && len(n.Content) == 0 {
		n.Style = yaml.FlowStyle
	}
	for _, c := range n.Content {
		block(c)
	}
}

// Sheet is a page of lines and tables. As CSV it is its tables alone.
type Sheet struct {
	Wide   bool
	CSV    bool
	Colour bool // use colours; never as the only sign of anything
	Width  int  // wrap lines and the cells of tables to this many columns; 0: no limit
	w      io.Writer
	err    error
}

// Line prints a line; CSV leaves it out.
func (s *Sheet) Line(format string, args ...any) {
	if !s.CSV {
		_, err := fmt.Fprintln(s.w, s.wrap(fmt.Sprintf(format, args...)))
		s.err = errors.Join(s.err, err)
	}
}

// Table prints rows below a header. Columns whose header ends in > are aligned
// to the right.
func (s *Sheet) Table(header []string, rows [][]string) {
	t := table.NewWriter()
	t.SetStyle(table.StyleDefault)
	t.Style().Options = table.OptionsNoBordersAndSeparators
	t.Style().Box.PaddingLeft, t.Style().Box.PaddingRight = "", "  "
	t.Style().Format.Header = text.FormatDefault
	var names table.Row
	columns := make([]table.ColumnConfig, len(header))
	widths := s.fit(header, rows)
	for i, h := range header {
		name, right := strings.CutSuffix(h, ">")
		names = append(names, name)
		columns[i] = table.ColumnConfig{
			Number:           i + 1,
			WidthMax:         widths[i],
			WidthMaxEnforcer: text.WrapSoft,
			VAlignHeader:     text.VAlignBottom,
		}
		if right {
			columns[i].Align, columns[i].AlignHeader = text.AlignRight, text.AlignRight
		}
	}
	t.AppendHeader(names)
	t.SetColumnConfigs(columns)
	for _, r := range rows {
		row := make(table.Row, len(r))
		for i, c := range r {
			row[i] = c
		}
		t.AppendRow(row)
	}
	drawn := t.Render()
	if s.CSV {
		drawn = t.RenderCSV()
	} else {
		lines := strings.Split(drawn, "\n")
		for i, l := range lines {
			lines[i] = strings.TrimRight(l, " ")
		}
		drawn = strings.Join(lines, "\n")
	}
	_, err := fmt.Fprintln(s.w, drawn)
	s.err = errors.Join(s.err, err)
}

// Terminal tells whether f is a terminal that shows colours.
func Terminal(f *os.File) bool {
	return isTerminal(f) && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
}

func isTerminal(f *os.File) bool {
	info, err := f.Stat()
	return err == nil && info.Mode()&os.ModeCharDevice != 0
}

// Share writes a share as a percentage; nothing known is a dash.
func Share(f *float64) string {
	if f == nil {
		return "–"
	}
	return Percent(*f)
}

// Percent writes a share as a percentage with one decimal. Only nothing rounds to 0%,
// and only everything to 100%.
func Percent(f float64) string {
	s := fmt.Sprintf("%.1f%%", 100*f)
	switch {
	case f > 0 && s == "0.0%":
		return "<0.1%"
	case f < 1 && s == "100.0%":
		return ">99.9%"
	}
	return s
}

// MiB writes an amount of memory in MiB; nothing known is a dash.
func MiB(bytes uint64) string {
	if bytes == 0 {
		return "–"
	}
	return fmt.Sprintf("%.1f", float64(bytes)/(1<<20))
}

// MS writes milliseconds for a column whose header names the unit; nothing known is
// a dash.
func MS(ms float64) string {
	if ms == 0 {
		return "–"
	}
	return fmt.Sprintf("%.1f", ms)
}

// Millis writes milliseconds with their unit and three figures; nothing known is a
// dash.
func Millis(ms float64) string {
	switch {
	case ms == 0:
		return "–"
	case ms < 10:
		return fmt.Sprintf("%.2f ms", ms)
	case ms < 100:
		return fmt.Sprintf("%.1f ms", ms)
	case ms < 10_000:
		return fmt.Sprintf("%.0f ms", ms)
	}
	return fmt.Sprintf("%.1f s", ms/1000)
}
