package report

import (
	"bytes"
	"fmt"
	"html"
	"image/color"
	"image/png"
	"io"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
	"gonum.org/v1/plot/vg/vgsvg"

	"testbench/internal/history"
	"testbench/internal/lazy"
)

// Colours are not said in a plot: each stands for a variable of the page, which has
// another value in the dark and on paper.
var (
	inkColour    = color.RGBA{1, 1, 1, 255}
	quietColour  = color.RGBA{2, 2, 2, 255}
	lineColour   = color.RGBA{3, 3, 3, 255}
	passedColour = color.RGBA{4, 4, 4, 255}
	failedColour = color.RGBA{5, 5, 5, 255}
)

const mostSeries = 6

func seriesColour(i int) color.Color {
	n := uint8(10 + i%mostSeries)
	return color.RGBA{n, n, n, 255}
}

var variables = func() map[string]string {
	out := map[string]string{
		"#010101": "var(--ink)", "#020202": "var(--quiet)", "#030303": "var(--line)",
		"#040404": "var(--passed)", "#050505": "var(--failed)",
	}
	for i := range mostSeries {
		out[fmt.Sprintf("#%02x%02x%02x", 10+i, 10+i, 10+i)] = fmt.Sprintf("var(--series-%d)", i)
		out[fmt.Sprintf("#%02X%02X%02X", 10+i, 10+i, 10+i)] = fmt.Sprintf("var(--series-%d)", i)
	}
	return out
}()

// Sizes of a plot, in points.
const (
	plotWidth  = 640
	plotHeight = 240
)

func newPlot(title, x, y string) *plot.Plot {
	p := plot.New()
	p.BackgroundColor = color.Transparent
	sans := font.Font{Typeface: "Liberation", Variant: "Sans", Size: 10}
	for _, style := range []*draw.TextStyle{
		&p.Title.TextStyle, &p.X.Label.TextStyle, &p.Y.Label.TextStyle,
		&p.X.Tick.Label, &p.Y.Tick.Label, &p.Legend.TextStyle,
	} {
		style.Font = sans
		style.Color = quietColour
	}
	p.Title.Text, p.Title.TextStyle.Color, p.Title.TextStyle.Font.Size = title, inkColour, 12
	p.Title.Padding = 8
	p.X.Label.Text, p.Y.Label.Text = x, y
	for _, axis := range []*plot.Axis{&p.X, &p.Y} {
		axis.LineStyle.Color, axis.Tick.LineStyle.Color = lineColour, lineColour
		axis.Padding = 4
	}
	grid := plotter.NewGrid()
	grid.Vertical.Color, grid.Horizontal.Color = lineColour, lineColour
	grid.Vertical.Width, grid.Horizontal.Width = 0.4, 0.4
	p.Add(grid)
	p.Legend.Top, p.Legend.Left = true, true
	p.Legend.XOffs, p.Legend.YOffs = 8, -4
	return p
}

var (
	anyColour = lazy.Regexp(`#[0-9A-Fa-f]{6}`)
	anyFont   = lazy.Regexp(
		`font-family:[^;"]*;?(font-variant:[^;"]*;?)?(font-weight:[^;"]*;?)?(font-style:[^;"]*;?)?`)
	plotHeader = lazy.Regexp(`(?s)^.*?<svg[^>]*>`)
)

// drawn gives a plot as an element for a page, with words for those who do not see it.
func drawn(p *plot.Plot, words string) (string, error) {
	return drawnIn(p, words, plotWidth, plotHeight)
}

// drawnIn is drawn with a size of its own, in points.
func drawnIn(p *plot.Plot, words string, width, height int) (string, error) {
	canvas := vgsvg.New(vg.Length(width), vg.Length(height))
	p.Draw(draw.New(canvas))
	var buffer bytes.Buffer
	if _, err := canvas.WriteTo(&buffer); err != nil {
		return "", err
	}
	text := plotHeader().ReplaceAllLiteralString(buffer.String(),
		fmt.Sprintf(`<svg viewBox="0 0 %d %d" role="img" aria-label="%s">`, width, height,
			html.EscapeString(words)))
	text = anyFont().ReplaceAllLiteralString(text, "")
	text = anyColour().ReplaceAllStringFunc(text, func(c string) string {
		if v := variables[c]; v != "" {
			return v
		}
		return c
	})
	return text, nil
}

// alone writes a plot as a file of its own, in the colours of the page.
func alone(to io.Writer, p *plot.Plot, words string, size Size) error {
	width, height := size.Width/2, size.Height/2
	text, err := drawnIn(p, words, width, height)
	if err != nil {
		return err
	}
	colours, _, _ := strings.Cut(pageStyle, "}")
	frame := fmt.Sprintf(`viewBox="-8 -8 %d %d"`, width+16, height+16) // with a margin
	text = strings.Replace(text, fmt.Sprintf(`viewBox="0 0 %d %d"`, width, height), frame, 1)
	head, rest, _ := strings.Cut(text, ">")
	_, err = fmt.Fprintf(to, `<?xml version="1.0" encoding="UTF-8"?>`+"\n"+
		`%s xmlns="http://www.w3.org/2000/svg" width="%d" height="%d"><style>%s; } `+
		`svg { background: var(--paper); font-family: "Liberation Sans", "DejaVu Sans", sans-serif; }</style>%s`,
		head, size.Width, size.Height, colours, rest)
	return err
}

// dotsPerInch gives two pixels for a point.
const dotsPerInch = 144

// inPixels writes a plot as a PNG, in the colours that the page has on paper.
func inPixels(to io.Writer, p *plot.Plot, size Size) error {
	paper := map[string]color.Color{} // the variables of the page
	block, _, _ := strings.Cut(pageStyle, "}")
	for _, found := range regexp.MustCompile(`(--[a-z0-9-]+): #(..)(..)(..)`).FindAllStringSubmatch(block, -1) {
		var rgb [3]uint8
		for i := range rgb {
			part, _ := strconv.ParseUint(found[2+i], 16, 8)
			rgb[i] = uint8(part)
		}
		paper["var("+found[1]+")"] = color.RGBA{rgb[0], rgb[1], rgb[2], 255}
	}
	canvas := vgimg.NewWith(vgimg.UseWH(vg.Length(size.Width)/2, vg.Length(size.Height)/2), vgimg.UseDPI(dotsPerInch),
		vgimg.UseBackgroundColor(paper["var(--paper)"]))
	coloured := draw.NewCanvas(onPaper{canvas, paper}, vg.Length(size.Width)/2, vg.Length(size.Height)/2)
	p.Draw(draw.Crop(coloured, 8, -8, 8, -8))
	return png.Encode(to, canvas.Image())
}

// onPaper is a canvas that puts the colours of the page in place of those that stand for them.
type onPaper struct {
	vg.Canvas
	paper map[string]color.Color
}

// SetColor puts the colour of the page in place of one that stands for it.
func (c onPaper) SetColor(one color.Color) {
	r, g, b, a := one.RGBA()
	if found := c.paper[variables[fmt.Sprintf("#%02x%02x%02x", r>>8, g>>8, b>>8)]]; found != nil && a > 0 {
		one = found
	}
	c.Canvas.SetColor(one)
}

// niceTicks are the usual ones without more digits than are needed.
type niceTicks struct{}

// Ticks implements plot.Ticker.
func (niceTicks) Ticks(low, high float64) []plot.Tick {
	ticks := plot.DefaultTicks{}.Ticks(low, high)
	for i := range ticks {
		if ticks[i].Label != "" {
			ticks[i].Label = strconv.FormatFloat(ticks[i].Value, 'g', 6, 64)
		}
	}
	return ticks
}

// The percentiles that are drawn: an axis on which each further nine takes as much room
// as the one before.
var nines = []struct {
	percent float64
	label   string
}{{0, "0"}, {50, "50"}, {75, ""}, {90, "90"}, {95, "95"}, {99, "99"}, {99.9, "99.9"}, {99.99, "99.99"}}

func ninesAt(percent float64) float64 { return -math.Log10(1 - percent/100) }

type ninesTicks struct{ most float64 }

// Ticks implements plot.Ticker.
func (t ninesTicks) Ticks(_, _ float64) []plot.Tick {
	var ticks []plot.Tick
	for _, n := range nines {
		if at := ninesAt(n.percent); at <= t.most+1e-9 {
			ticks = append(ticks, plot.Tick{Value: at, Label: n.label})
		}
	}
	return ticks
}

// fewestTimes is from how many exchanges on percentiles say something.
const fewestTimes = 10

// percentiles draws how long the exchanges of the steps took, from the fastest to the
// slowest; "" where there are too few.
func percentiles(s *history.Sheet) (string, error) {
	var steps []*history.Times
	for _, t := range s.Times {
		if t.Count >= fewestTimes {
			steps = append(steps, t)
		}
	}
	if len(steps) == 0 {
		return "", nil
	}
	// Those that took longest are drawn.
	slices.SortStableFunc(steps, func(a, b *history.Times) int { return int(math.Copysign(1, b.P99-a.P99)) })
	steps = steps[:min(len(steps), mostSeries)]
	p := newPlot("Times of "+harmlessText(s.Sheet), "percentile (%)", "time (ms)")
	most := 0.0
	var words []string
	for i, t := range steps {
		at, err := t.Percentiles()
		if err != nil {
			continue // of a report that others wrote
		}
		// The last of n is at 1-1/n: beyond that nothing is known.
		end := ninesAt(100 * (1 - 1/float64(t.Count)))
		most = max(most, end)
		var points plotter.XYs
		for x := 0.0; ; x += 0.02 {
			x = min(x, end)
			points = append(points, plotter.XY{X: x, Y: at(100 * (1 - math.Pow(10, -x)))})
			if x >= end {
				break
			}
		}
		line, err := plotter.NewLine(points)
		if err != nil {
			return "", err
		}
		line.LineStyle.Color, line.LineStyle.Width = seriesColour(i), 1.6
		line.LineStyle.Dashes = [][]vg.Length{nil, {6, 3}, {2, 2}, {8, 3, 2, 3}, {4, 4}, {1, 3}}[i%mostSeries]
		p.Add(line)
		p.Legend.Add(harmlessText(t.Step), line)
		words = append(words, fmt.Sprintf(
			"%s: half took at most %.1f ms, 99 of 100 at most %.1f ms, the slowest %.1f ms", harmlessText(t.Step),
			t.P50, t.P99, t.Max))
	}
	p.X.Min, p.X.Max, p.Y.Min = 0, most, 0
	p.X.Tick.Marker, p.Y.Tick.Marker = ninesTicks{most}, niceTicks{}
	if p.Y.Max *= 1.05 + 0.08*float64(len(steps)); p.Y.Max <= 0 { // the legend is above
		p.Y.Max = 1
	}
	return drawn(p, p.Title.Text+". "+strings.Join(words, "; "))
}

// moment is an exchange on the time line.
type moment struct {
	at, ms float64 // seconds since the run began, milliseconds
	passed bool
}

// mostMoments is how many exchanges are drawn.
const mostMoments = 3_000

// timeline draws when the exchanges were, how long they took, and which failed.
func timeline(moments []moment) (svg, remark string, err error) {
	if len(moments) < 2 {
		return "", "", nil
	}
	shown := thinned(moments)
	if len(shown) < len(moments) {
		remark = fmt.Sprintf("%d of %d exchanges are drawn: those that failed, and of the others the slowest of each "+
			"moment.", len(shown), len(moments))
	}
	p := newPlot("Exchanges over the run", "since the start (s)", "time (ms)")
	var passed, failed plotter.XYs
	slowest := 0.0
	for _, m := range shown {
		slowest = max(slowest, m.ms)
		if m.passed {
			passed = append(passed, plotter.XY{X: m.at, Y: m.ms})
		} else {
			failed = append(failed, plotter.XY{X: m.at, Y: m.ms})
		}
	}
	for _, kind := range []struct {
		points plotter.XYs
		colour color.Color
		shape  draw.GlyphDrawer
		word   string
	}{{passed, passedColour, draw.RingGlyph{}, "passed"}, {failed, failedColour, draw.CrossGlyph{}, "failed"}} {
		if len(kind.points) == 0 {
			continue
		}
		scatter, err := plotter.NewScatter(kind.points)
		if err != nil {
			return "", "", err
		}
		scatter.GlyphStyle = draw.GlyphStyle{Color: kind.colour, Radius: 2.2, Shape: kind.shape}
		p.Add(scatter)
		p.Legend.Add(kind.word, scatter)
	}
	p.X.Min, p.Y.Min = 0, 0
	p.Y.Max = slowest * 1.3 // the legend is above
	p.X.Tick.Marker, p.Y.Tick.Marker = niceTicks{}, niceTicks{}
	if p.X.Max <= 0 {
		p.X.Max = 1
	}
	if p.Y.Max <= 0 {
		p.Y.Max = 1
	}
	svg, err = drawn(p, fmt.Sprintf("%s. %d passed and %d did not; the slowest took %.1f ms", p.Title.Text, len(passed),
		len(failed), slowest))
	return svg, remark, err
}

// thinned keeps what failed, and of the rest the slowest of each moment.
func thinned(moments []moment) []moment {
	if len(moments) <= mostMoments {
		return moments
	}
	end := 0.0
	var out []moment
	for _, m := range moments {
		end = max(end, m.at)
		if !m.passed && len(out) < mostMoments/2 {
			out = append(out, m)
		}
	}
	slowest := map[int]moment{}
	for _, m := range moments {
		slot := int(m.at / max(end, 1e-9) * (mostMoments / 2))
		if known, ok := slowest[slot]; m.passed && (!ok || m.ms > known.ms) {
			slowest[slot] = m
		}
	}
	for _, m := range slowest {
		out = append(out, m)
	}
	slices.SortFunc(out, func(a, b moment) int { return int(math.Copysign(1, a.at-b.at)) })
	return out
}

// harmlessText keeps what a font cannot draw out of a plot.
func harmlessText(text string) string {
	if runes := []rune(text); len(runes) > 60 {
		text = string(runes[:59]) + "…"
	}
	return strings.Map(func(r rune) rune {
		if r == '\n' || r == '\t' {
			return ' '
		}
		return harmless(r)
	}, text)
}
