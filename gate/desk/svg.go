package desk

import (
	"fmt"
	"html/template"
	"math"
	"strconv"
	"strings"
)

// round is the next of 1, 2, 5, 10, 20, 50 … that is not smaller.
func round(n float64) float64 {
	if n <= 0 || math.IsInf(n, 0) || math.IsNaN(n) {
		return 0
	}
	size := math.Pow(10, math.Floor(math.Log10(n)))
	for _, step := range []float64{1, 2, 5, 10} {
		if n <= step*size*(1+1e-9) {
			return step * size
		}
	}
	return 10 * size
}

func floorTo(n, width float64) float64 { return math.Floor(n/width) * width }

// short is a number as an axis has it: to four digits or so, its thousands apart.
func short(n float64) string {
	if n == math.Trunc(n) && math.Abs(n) < 1e15 {
		return thousands(strconv.FormatFloat(n, 'f', 0, 64))
	}
	places := 2
	if a := math.Abs(n); a != 0 && a < 1 {
		places = min(2-int(math.Floor(math.Log10(a))), 8)
	}
	text := strconv.FormatFloat(n, 'f', places, 64)
	return thousands(strings.TrimRight(strings.TrimRight(text, "0"), "."))
}

// The picture of a chart, in its own units.
const (
	chartWidth, chartHeight = 860.0, 380.0
	leftOf, rightOf         = 70.0, 14.0
	above, below            = 14.0, 74.0
	ticks                   = 5
)

// SVG is the picture of a chart. What it shows stands in a table beside it.
func (c *chart) SVG() template.HTML {
	var b strings.Builder
	fmt.Fprintf(&b, `<svg viewBox="0 0 %.0f %.0f" role="img" aria-label="%s">`, chartWidth, chartHeight, template.HTMLEscapeString(c.Y+" by "+c.X))
	low, high := 0.0, 0.0
	if n := len(c.Points); n > 0 && c.Points[n-1].Rest {
		own := *c
		own.Points = c.Points[:n-1]
		c = &own
	}
	for _, p := range c.Points {
		low, high = min(low, p.Value), max(high, p.Value)
	}
	step := round((high - low) / ticks)
	if step == 0 {
		step = 1
	}
	low, high = floorTo(low, step), math.Ceil(high/step)*step
	if high == low {
		high = low + step
	}
	y := func(v float64) float64 { return above + (high-v)/(high-low)*(chartHeight-above-below) }
	for n := 0; n <= int(math.Round((high-low)/step)); n++ {
		v := low + float64(n)*step
		fmt.Fprintf(&b, `<path class="grid" d="M%.1f %.1fH%.1f"/><text class="tick" x="%.1f" y="%.1f" text-anchor="end">%s</text>`, leftOf, y(v), chartWidth-rightOf, leftOf-8, y(v)+4, template.HTMLEscapeString(short(v)))
	}
	if c.Kind == "line" {
		c.drawLine(&b, y)
	} else {
		c.drawBars(&b, y)
	}
	fmt.Fprintf(&b, `<path class="axis" d="M%.1f %.1fH%.1f"/>`, leftOf, y(max(low, 0)), chartWidth-rightOf)
	b.WriteString("</svg>")
	return template.HTML(b.String()) //nolint:gosec // made here, of numbers and escaped texts
}

func (c *chart) drawBars(b *strings.Builder, y func(float64) float64) {
	step := (chartWidth - leftOf - rightOf) / float64(max(len(c.Points), 1))
	gap := step * .2
	if c.Kind == "histogram" {
		gap = 1
	}
	for i, p := range c.Points {
		x := leftOf + float64(i)*step
		top, bottom := min(y(p.Value), y(0)), max(y(p.Value), y(0))
		fmt.Fprintf(b, `<rect class="bar" x="%.1f" y="%.1f" width="%.1f" height="%.1f"><title>%s</title></rect>`, x+gap/2, top, max(step-gap, 1), bottom-top, template.HTMLEscapeString(p.Label+": "+p.Text))
		label(b, x+step/2, step, p.Label, i, len(c.Points))
	}
}

func (c *chart) drawLine(b *strings.Builder, y func(float64) float64) {
	if len(c.Points) == 0 {
		return
	}
	step := (chartWidth - leftOf - rightOf) / float64(max(len(c.Points)-1, 1))
	at := func(i int) float64 { return leftOf + float64(i)*step }
	path, gap := strings.Builder{}, true
	for i, p := range c.Points {
		if !p.None {
			fmt.Fprintf(&path, "%s%.1f %.1f", map[bool]string{true: "M", false: "L"}[gap], at(i), y(p.Value))
		}
		gap = p.None
	}
	if path.Len() == 0 {
		return
	}
	if !strings.Contains(path.String()[1:], "M") && !gap {
		fmt.Fprintf(b, `<path class="area" d="%sL%.1f %.1fL%.1f %.1fZ"/>`, path.String(), at(len(c.Points)-1), y(0), at(0), y(0))
	}
	fmt.Fprintf(b, `<path class="curve" d="%s"/>`, path.String())
	for i, p := range c.Points {
		if p.None {
			label(b, at(i), step, p.Label, i, len(c.Points))
			continue
		}
		fmt.Fprintf(b, `<circle class="dot" cx="%.1f" cy="%.1f" r="3"><title>%s</title></circle>`, at(i), y(p.Value), template.HTMLEscapeString(p.Label+": "+p.Text))
		label(b, at(i), step, p.Label, i, len(c.Points))
	}
}

// What labels take below the axis.
const (
	letter    = 6.6 // the width of one
	mostLabel = 16
	leastStep = 24 // between labels
)

// label writes what a bar or point is: level where there is room, slanted where
// there is little, and only some of them where there is less.
func label(b *strings.Builder, x, step float64, text string, i, all int) {
	if every := int(math.Ceil(leastStep / step)); every > 1 && i%every != 0 {
		return
	}
	if r := []rune(text); len(r) > mostLabel {
		text = string(r[:mostLabel-1]) + "…"
	}
	text = template.HTMLEscapeString(text)
	level := chartHeight - below + 20
	if float64(len([]rune(text)))*letter <= step*math.Ceil(leastStep/step) && step >= leastStep || all == 1 {
		fmt.Fprintf(b, `<text class="tick" x="%.1f" y="%.1f" text-anchor="middle">%s</text>`, x, level, text)
		return
	}
	fmt.Fprintf(b, `<text class="tick" x="%.1f" y="%.1f" text-anchor="end" transform="rotate(-38 %.1f %.1f)">%s</text>`, x+4, level-4, x+4, level-4, text)
}
