package report

import (
	"bytes"
	"fmt"
	"html"
	"math"
	"time"

	svg "github.com/ajstarks/svgo"
)

// The measures of a plot, in units of its view: the page scales it.
const (
	plotWidth                        = 760
	plotHeight                       = 230
	marginLeft, marginRight          = 52, 10
	marginTop, marginBottom          = 10, 30
	rowHeight, nameWidth, valueWidth = 26, 290, 70
	mostTicks                        = 4
	labelWidth                       = 46 // what a label below a bar takes
	shareOfBar                       = 0.72
)

// draw returns the plot as an SVG document without a header, to stand in a page. Its bars bear classes,
// s0 to s2, so that the page colours them, in light and dark; the library, svgo, leaves that to us, which
// those that plot for print do not. Each bar has its numbers as a title.
func (p *Plot) draw() string {
	var b bytes.Buffer
	canvas := svg.New(&b)
	if p.Name == "rules" {
		p.drawAcross(canvas)
	} else {
		p.drawUp(canvas)
	}
	text := b.Bytes()
	if i := bytes.Index(text, []byte("<svg")); i > 0 { // the XML declaration and a comment stand before it
		text = text[i:]
	}
	return string(text)
}

func (p *Plot) start(canvas *svg.SVG, height int) {
	canvas.Startview(plotWidth, height, 0, 0, plotWidth, height)
	canvas.Title(html.EscapeString(p.Title))
}

// total is the height of a bar.
func (p *Plot) total(i int) (sum int64) {
	for _, s := range p.Series {
		sum += s.Values[i]
	}
	return sum
}

// top returns a round number that no bar exceeds, and the step between ticks.
func (p *Plot) top() (most, step int64) {
	for i := range p.Labels {
		most = max(most, p.total(i))
	}
	raw := float64(max(most, 1)) / mostTicks
	magnitude := math.Pow(10, math.Floor(math.Log10(raw)))
	for _, m := range []float64{1, 2, 5, 10} {
		if step = int64(math.Ceil(m * magnitude)); float64(step) >= raw {
			break
		}
	}
	return (most + step - 1) / step * step, step
}

// said is what a bar says.
func (p *Plot) said(i int) string {
	text := p.Labels[i] + ":"
	for _, s := range p.Series {
		text += fmt.Sprintf(" %d %s,", s.Values[i], s.Name)
	}
	return html.EscapeString(text[:len(text)-1])
}

// drawUp draws bars beside each other, from the bottom to the top.
func (p *Plot) drawUp(canvas *svg.SVG) {
	p.start(canvas, plotHeight)
	most, step := p.top()
	height := plotHeight - marginTop - marginBottom
	y := func(n int64) int {
		return marginTop + height - int(math.Round(float64(n)*float64(height)/float64(max(most, 1))))
	}
	for n := int64(0); n <= most; n += step {
		canvas.Line(marginLeft, y(n), plotWidth-marginRight, y(n), `class="grid"`)
		canvas.Text(marginLeft-6, y(n)+4, fmt.Sprint(n), `class="tick end"`)
	}
	room := float64(plotWidth-marginLeft-marginRight) / float64(len(p.Labels))
	every := max(1, int(math.Ceil(labelWidth/room)))
	for i, label := range p.Labels {
		x := marginLeft + int(room*float64(i)+room*(1-shareOfBar)/2)
		width := max(1, int(room*shareOfBar))
		canvas.Group(`class="bar"`)
		canvas.Title(p.said(i))
		below := int64(0)
		for n, s := range p.Series {
			if v := s.Values[i]; v > 0 {
				canvas.Rect(x, y(below+v), width, max(1, y(below)-y(below+v)), fmt.Sprintf(`class="s%d"`, n))
				below += v
			}
		}
		canvas.Gend()
		if i%every == 0 {
			canvas.Text(x+width/2, plotHeight-marginBottom+16, shortLabel(label), `class="tick middle"`)
		}
	}
	canvas.End()
}

// drawAcross draws bars below each other, from the left to the right, with their names before them.
func (p *Plot) drawAcross(canvas *svg.SVG) {
	p.start(canvas, rowHeight*len(p.Labels)+marginTop)
	most := int64(1)
	for i := range p.Labels {
		most = max(most, p.total(i))
	}
	length := func(n int64) int {
		return int(math.Round(float64(n) * float64(plotWidth-nameWidth-valueWidth) / float64(most)))
	}
	for i, label := range p.Labels {
		top := marginTop/2 + rowHeight*i
		canvas.Text(nameWidth-8, top+rowHeight/2+4, html.EscapeString(shortened(label)), `class="tick end"`)
		canvas.Group(`class="bar"`)
		canvas.Title(p.said(i))
		at := int64(0)
		for n, s := range p.Series {
			if v := s.Values[i]; v > 0 {
				canvas.Rect(nameWidth+length(at), top+4, max(1, length(at+v)-length(at)), rowHeight-8, fmt.Sprintf(`class="s%d"`, n+1))
				at += v
			}
		}
		canvas.Gend()
		canvas.Text(nameWidth+length(at)+6, top+rowHeight/2+4, fmt.Sprint(at), `class="tick"`)
	}
	canvas.End()
}

// shortLabel is a label as it stands below a bar: of a date the day and the month.
func shortLabel(label string) string {
	if day, err := time.Parse(time.DateOnly, label); err == nil {
		return day.Format("2 Jan")
	}
	return label
}

// shortened is a name that fits before a bar.
func shortened(name string) string {
	const most = 42
	if runes := []rune(name); len(runes) > most {
		return string(runes[:most-1]) + "…"
	}
	return name
}
