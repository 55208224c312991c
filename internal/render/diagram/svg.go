package diagram

import (
	"fmt"
	"strings"

	"github.com/mattn/go-runewidth"

	"widegate/internal/printable"
)

// longestType is how many characters of a type are shown.
const longestType = 18

// Style is the style sheet of the pictures, for pages that hold an Inline one.
const Style = `
  text { font: 12px "DejaVu Sans Mono", Menlo, Consolas, monospace; fill: #2b2621; }
  .title { font-size: 14px; font-weight: bold; }
  .name { font-weight: bold; }
  .type { fill: #857a6b; }
  .key { fill: #8a4b08; font-weight: bold; }
  .box { fill: #fffdf8; stroke: #b8a88a; }
  .view { stroke-dasharray: 5 3; }
  .line { fill: none; stroke: #7c6f9c; stroke-width: 1.3; }
  .end { fill: #ffffff; stroke: #7c6f9c; stroke-width: 1.3; }
  g.line-group:hover .line { stroke: #c2410c; stroke-width: 2.4; }
`

func headColor(b Box) string {
	if b.View {
		return "#e6eadf"
	}
	return "#f6dfa4"
}

// SVG returns the diagram as a picture, SVG 1.1.
func (d *Diagram) SVG() string {
	return d.draw(fmt.Sprintf("<style>%s</style>\n<rect width=\"100%%\" height=\"100%%\" fill=\"#ffffff\"/>\n", Style), true)
}

// Inline returns the diagram as an element of a page that has the style sheet.
func (d *Diagram) Inline() string { return d.draw("", false) }

func (d *Diagram) draw(begin string, sized bool) string {
	l := d.layout()
	l.named = !sized
	width := max(l.width, 2*margin+float64(runewidth.StringWidth(d.Title))*charWidth*1.2)
	var b strings.Builder
	b.WriteString("<svg xmlns=\"http://www.w3.org/2000/svg\"")
	if sized {
		fmt.Fprintf(&b, " width=\"%.0f\" height=\"%.0f\"", width, l.height)
	}
	fmt.Fprintf(&b, " viewBox=\"0 0 %.0f %.0f\">\n%s", width, l.height, begin)
	fmt.Fprintf(&b, "<text class=\"title\" x=\"%.0f\" y=\"%.0f\">%s</text>\n", margin, margin+6, escapeXML(d.Title))
	for _, r := range l.routes {
		l.drawRoute(&b, r)
	}
	for _, line := range l.loops {
		l.drawLoop(&b, line)
	}
	for i, n := range l.boxes {
		l.drawBox(&b, d.Boxes[i], n)
	}
	b.WriteString("</svg>\n")
	return b.String()
}

func (l *layout) drawBox(b *strings.Builder, box Box, n *node) {
	class := "box"
	if box.View {
		class = "box view"
	}
	if box.Link != "" {
		fmt.Fprintf(b, "<a href=\"%s\">\n", escapeXML(box.Link))
		defer b.WriteString("</a>\n")
	}
	name := ""
	if l.named {
		name = fmt.Sprintf(" data-box=\"%s\"", escapeXML(box.Name))
	}
	fmt.Fprintf(b, "<g transform=\"translate(%.1f %.1f)\"%s>\n", n.x, n.y, name)
	fmt.Fprintf(b, "<rect class=\"%s\" width=\"%.1f\" height=\"%.1f\" rx=\"4\"/>\n", class, n.width, n.height)
	fmt.Fprintf(b, "<path d=\"M0.5 %.1fV4.5a4 4 0 0 1 4-4H%.1fa4 4 0 0 1 4 4V%.1fz\" fill=\"%s\"/>\n", headHeight, n.width-4.5, headHeight, headColor(box))
	fmt.Fprintf(b, "<text class=\"name\" x=\"%.0f\" y=\"16\">%s</text>\n", padding, escapeXML(box.Name))
	for i, r := range box.Rows {
		y := headHeight + rowHeight*float64(i) + 15
		nameClass := ""
		if r.Key {
			nameClass = " class=\"key\""
		}
		fmt.Fprintf(b, "<text%s x=\"%.0f\" y=\"%.1f\">%s</text>", nameClass, padding, y, escapeXML(r.mark()+r.Name))
		fmt.Fprintf(b, "<text class=\"type\" x=\"%.1f\" y=\"%.1f\" text-anchor=\"end\">%s</text>\n", n.width-padding, y, escapeXML(cut(r.Type, longestType)))
	}
	if box.More > 0 {
		fmt.Fprintf(b, "<text class=\"type\" x=\"%.0f\" y=\"%.1f\">%s</text>\n", padding, headHeight+rowHeight*float64(len(box.Rows))+15, box.more())
	}
	b.WriteString("</g>\n")
}

func cut(s string, n int) string {
	r := []rune(s)
	if len(r) <= n {
		return s
	}
	return string(r[:n-1]) + "…"
}

// anchor is the height at which a line leaves or meets a box.
func (l *layout) anchor(n *node, line Line) float64 {
	switch {
	case n.box < 0:
		return n.middle()
	case n.box == line.From && line.Row >= 0:
		return n.y + headHeight + rowHeight*float64(line.Row) + 11
	}
	return n.y + headHeight/2
}

func (l *layout) drawRoute(b *strings.Builder, r route) {
	first, last := r.nodes[0], r.nodes[len(r.nodes)-1]
	if first.layer == last.layer {
		l.drawBeside(b, r)
		return
	}
	l.group(b, r.line, func() {
		x, y := first.x+first.width, l.anchor(first, r.line)
		path := fmt.Sprintf("M%.1f %.1f", x, y)
		for _, n := range r.nodes[1:] {
			toY := l.anchor(n, r.line)
			// The curve keeps to the gap before the layer: what is left of it
			// is the room beside boxes that are narrower than their layer.
			start := max(x, n.x-gapAcross)
			bend := (n.x - start) / 2
			path += fmt.Sprintf("H%.1fC%.1f %.1f %.1f %.1f %.1f %.1f", start, start+bend, y, n.x-bend, toY, n.x, toY)
			x, y = n.x, toY
			if n.box < 0 {
				x = n.x + n.width
				path += fmt.Sprintf("H%.1f", x)
			}
		}
		fmt.Fprintf(b, "<path class=\"line\" d=\"%s\"/>", path)
		firstX, firstY := first.x+first.width, l.anchor(first, r.line)
		if r.back { // the lower layer holds the reference
			manyEnd(b, firstX, firstY, 1, r.line)
			oneEnd(b, last.x, l.anchor(last, r.line), -1, r.line)
			return
		}
		oneEnd(b, firstX, firstY, 1, r.line)
		manyEnd(b, last.x, l.anchor(last, r.line), -1, r.line)
	})
}

// drawBeside draws a line between two boxes of one layer, to their right.
func (l *layout) drawBeside(b *strings.Builder, r route) {
	from, to := l.boxes[r.line.From], l.boxes[r.line.To]
	l.group(b, r.line, func() {
		fromX, toX := from.x+from.width, to.x+to.width
		fromY, toY := l.anchor(from, r.line), l.anchor(to, r.line)
		out := max(fromX, toX) + gapAcross/2
		fmt.Fprintf(b, "<path class=\"line\" d=\"M%.1f %.1fC%.1f %.1f %.1f %.1f %.1f %.1f\"/>", fromX, fromY, out, fromY, out, toY, toX, toY)
		manyEnd(b, fromX, fromY, 1, r.line)
		oneEnd(b, toX, toY, 1, r.line)
	})
}

func (l *layout) drawLoop(b *strings.Builder, line Line) {
	n := l.boxes[line.From]
	l.group(b, line, func() {
		x, fromY, toY := n.x+n.width, l.anchor(n, line), n.y+headHeight/2
		fmt.Fprintf(b, "<path class=\"line\" d=\"M%.1f %.1fh10c22 0 22 %.1f 0 %.1fh-10\"/>", x, fromY, toY-fromY, toY-fromY)
		manyEnd(b, x, fromY, 1, line)
		oneEnd(b, x, toY, 1, line)
	})
}

func (l *layout) group(b *strings.Builder, line Line, draw func()) {
	ends := ""
	if l.named {
		ends = fmt.Sprintf(" data-from=\"%s\" data-to=\"%s\"", escapeXML(l.diagram.Boxes[line.From].Name), escapeXML(l.diagram.Boxes[line.To].Name))
	}
	fmt.Fprintf(b, "<g class=\"line-group\"%s><title>%s</title>", ends, escapeXML(fmt.Sprintf("%s (%s) → %s", l.diagram.Boxes[line.From].Name, line.Columns, l.diagram.Boxes[line.To].Name)))
	draw()
	b.WriteString("</g>\n")
}

// manyEnd draws a crow's foot where many rows may refer, else a bar. side is 1
// where the line leaves to the right.
func manyEnd(b *strings.Builder, x, y, side float64, line Line) {
	if line.One {
		fmt.Fprintf(b, "<path class=\"line\" d=\"M%.1f %.1fv10\"/>", x+6*side, y-5)
		return
	}
	fmt.Fprintf(b, "<path class=\"line\" d=\"M%.1f %.1fL%.1f %.1fL%.1f %.1f\"/>", x, y-5, x+9*side, y, x, y+5)
}

// oneEnd draws a bar, and a ring where the reference may be null.
func oneEnd(b *strings.Builder, x, y, side float64, line Line) {
	fmt.Fprintf(b, "<path class=\"line\" d=\"M%.1f %.1fv10\"/>", x+5*side, y-5)
	if line.Optional {
		fmt.Fprintf(b, "<circle class=\"end\" cx=\"%.1f\" cy=\"%.1f\" r=\"3.4\"/>", x+11*side, y)
	}
}

func escapeXML(s string) string {
	s = strings.Map(func(r rune) rune {
		if r == '\n' || r == '\t' || r == 0xfffe || r == 0xffff {
			return ' '
		}
		return r
	}, printable.Text(s))
	return strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;").Replace(s)
}
