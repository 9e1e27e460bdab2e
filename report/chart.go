package report

import (
	"bytes"
	"fmt"
	"html/template"
	"image/color"
	"math"
	"strings"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgsvg"
)

// line is one line of a chart. Points that are NaN are gaps.
type line struct {
	name   string
	points plotter.XYs
}

// mark is an upright line.
type mark struct {
	x    float64
	name string
}

// chart is a picture of lines over one axis.
type chart struct {
	title, x, y string
	lines       []line
	marks       []mark
	bands       [][2]float64 // of x that are compared
	low, high   float64      // of y; equal: as the lines need
	ticks       plot.Ticker  // of x; nil: as usual
}

// inks are the colours of lines, which differ in their dashes too (M. Okabe and
// K. Ito's, made darker).
var inks = []color.Color{
	color.RGBA{0x17, 0x50, 0x5c, 0xff},
	color.RGBA{0x9a, 0x52, 0x00, 0xff},
	color.RGBA{0x7a, 0x3b, 0x6e, 0xff},
	color.RGBA{0x2f, 0x5f, 0x9e, 0xff},
}

var dashes = [][]vg.Length{
	nil,
	{vg.Points(6), vg.Points(3)},
	{vg.Points(2), vg.Points(2)},
	{vg.Points(8), vg.Points(2), vg.Points(2), vg.Points(2)},
}

var (
	faint = color.RGBA{0xd8, 0xd1, 0xc3, 0xff}
	lamp  = color.RGBA{0x9a, 0x52, 0x00, 0xff}
	water = color.RGBA{0xe6, 0xee, 0xee, 0xff}
)

// svg draws a chart as an element of a page.
func (c *chart) svg() (template.HTML, error) {
	p := plot.New()
	p.Title.Text, p.X.Label.Text, p.Y.Label.Text = c.title, c.x, c.y
	p.BackgroundColor = color.Transparent
	p.Legend.Top = true
	if c.ticks != nil {
		p.X.Tick.Marker = c.ticks
	}
	bottom, top := math.Inf(1), math.Inf(-1)
	var left, right float64 = math.Inf(1), math.Inf(-1)
	for _, l := range c.lines {
		for _, v := range l.points {
			left, right = min(left, v.X), max(right, v.X)
			if !math.IsNaN(v.Y) {
				bottom, top = min(bottom, v.Y), max(top, v.Y)
			}
		}
	}
	if math.IsInf(bottom, 1) {
		return template.HTML(`<p class="none">` + template.HTMLEscapeString(c.title) + `: no requests.</p>`), nil
	}
	if c.low < c.high {
		bottom, top = min(c.low, bottom), max(c.high, top)
	}
	if top == bottom {
		top, bottom = top+0.5, bottom-0.5
	}
	if len(c.lines) > 1 { // room for the names
		top += (top - bottom) / 4
	}
	p.Y.Min, p.Y.Max, p.X.Min, p.X.Max = bottom, top, left, max(right, left+1)
	for _, b := range c.bands {
		box, err := plotter.NewPolygon(
			plotter.XYs{{X: b[0], Y: bottom}, {X: b[1], Y: bottom}, {X: b[1], Y: top}, {X: b[0], Y: top}},
		)
		if err != nil {
			return "", err
		}
		box.Color, box.LineStyle.Width = water, 0
		p.Add(box)
	}
	grid := plotter.NewGrid()
	grid.Vertical.Color, grid.Horizontal.Color = faint, faint
	p.Add(grid)
	if err := c.draw(p, bottom, top); err != nil {
		return "", err
	}
	canvas := vgsvg.New(760, 230)
	p.Draw(draw.New(canvas))
	var b bytes.Buffer
	if _, err := canvas.WriteTo(&b); err != nil {
		return "", err
	}
	text := b.String()
	if at := strings.Index(text, "<svg"); at > 0 {
		text = text[at:]
	}
	name := template.HTMLEscapeString(c.title)
	return template.HTML(strings.Replace(text, "<svg", `<svg role="img" aria-label="`+name+`"`, 1)), nil
}

// draw adds the lines and the marks to a plot whose y axis goes from bottom to top.
func (c *chart) draw(p *plot.Plot, bottom, top float64) error {
	for i, l := range c.lines {
		for n, piece := range pieces(l.points) {
			drawn, err := plotter.NewLine(piece)
			if err != nil {
				return err
			}
			drawn.LineStyle = draw.LineStyle{
				Color:  inks[i%len(inks)],
				Width:  vg.Points(1.8),
				Dashes: dashes[i%len(dashes)],
			}
			p.Add(drawn)
			if n == 0 && len(c.lines) > 1 {
				p.Legend.Add(l.name, drawn)
			}
		}
	}
	for _, m := range c.marks {
		drawn, err := plotter.NewLine(plotter.XYs{{X: m.x, Y: bottom}, {X: m.x, Y: top}})
		if err != nil {
			return err
		}
		drawn.LineStyle = draw.LineStyle{Color: lamp, Width: vg.Points(1.5)}
		p.Add(drawn)
		words, err := plotter.NewLabels(
			plotter.XYLabels{XYs: plotter.XYs{{X: m.x, Y: top}}, Labels: []string{" " + m.name}},
		)
		if err != nil {
			return err
		}
		words.TextStyle[0].Color, words.TextStyle[0].YAlign = lamp, -1
		p.Add(words)
	}
	return nil
}

// pieces cuts a line at its gaps.
func pieces(all plotter.XYs) (out []plotter.XYs) {
	var now plotter.XYs
	for _, v := range all {
		if math.IsNaN(v.Y) {
			if len(now) > 0 {
				out = append(out, now)
			}
			now = nil
			continue
		}
		now = append(now, v)
	}
	if len(now) > 0 {
		out = append(out, now)
	}
	return out
}

// sinceTicks labels seconds after a moment as minutes before and after it.
type sinceTicks struct{}

func (sinceTicks) Ticks(low, high float64) []plot.Tick {
	step := 1.0
	for _, s := range []float64{1, 5, 10, 30, 60, 300, 600, 1800, 3600, 3 * 3600, 12 * 3600} {
		if step = s; (high-low)/s <= 12 {
			break
		}
	}
	var out []plot.Tick
	for v := math.Ceil(low/step) * step; v <= high; v += step {
		label := "0"
		if v != 0 {
			seconds := int(math.Abs(v))
			label = fmt.Sprintf("%ds", seconds)
			if seconds >= 60 {
				label = fmt.Sprintf("%dm", seconds/60)
				if seconds%60 > 0 {
					label += fmt.Sprintf("%02ds", seconds%60)
				}
			}
			if v > 0 {
				label = "+" + label
			} else {
				label = "-" + label
			}
		}
		out = append(out, plot.Tick{Value: v, Label: label})
	}
	return out
}
