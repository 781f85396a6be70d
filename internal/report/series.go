package report

import (
	"encoding/csv"
	"fmt"
	"io"
	"math"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"

	"testbench/internal/safefile"
)

// SeriesEndings are the formats of a series, in words.
const SeriesEndings = ".csv, .svg"

// Point is one look at something that is watched, or a row of a run.
type Point struct {
	At      time.Time
	Number  int     // of the call or the run
	Row     string  // its name; empty where there are none
	Status  int     // 0 where no answer came
	Millis  float64 // how long the exchange took
	Outcome string
	Values  []string // of the paths of the series, masked
	Alarm   bool
}

// ofCalls is a series of calls, which have a status, a time and an alarm.
const ofCalls = "call"

// mostPoints bounds a series: of a longer one the newest are kept.
const mostPoints = 100_000

// Series is what is watched, over time.
type Series struct {
	Title  string
	Of     string // what the numbers count: call, run
	Paths  []string
	points []Point
	fromIn int // of a series that is full, where the oldest is
}

// Add adds a point.
func (s *Series) Add(p Point) {
	if len(s.points) < mostPoints {
		s.points = append(s.points, p)
		return
	}
	s.points[s.fromIn] = p
	s.fromIn = (s.fromIn + 1) % mostPoints
}

// Points are those of the series, the oldest first.
func (s *Series) Points() []Point { return slices.Concat(s.points[s.fromIn:], s.points[:s.fromIn]) }

// CheckSeriesName says whether a series can be written under the name: its ending says the format.
func CheckSeriesName(name string) error {
	if ending := strings.ToLower(filepath.Ext(name)); ending != ".csv" && ending != ".svg" {
		return fmt.Errorf("%s: the ending says the format, and there are %s", name, SeriesEndings)
	}
	return nil
}

// WriteFile writes the series in the format that the ending of the name says.
func (s *Series) WriteFile(name string) error {
	if err := CheckSeriesName(name); err != nil {
		return err
	}
	write := s.CSV
	if strings.EqualFold(filepath.Ext(name), ".svg") {
		write = s.SVG
	}
	return safefile.Stream(name, 0o644, write)
}

// CSV writes a line for each point (RFC 4180, with a header).
func (s *Series) CSV(to io.Writer) error {
	w := csv.NewWriter(to)
	w.UseCRLF = true
	points := s.Points()
	hasRows := slices.ContainsFunc(points, func(p Point) bool { return p.Row != "" })
	isCall := s.Of == ofCalls
	// line writes the cells that there are in a series of this kind; Error tells.
	line := func(number, at, row, status, millis, outcome string, values []string, alarm string) {
		cells := []string{number, at}
		if hasRows {
			cells = append(cells, row)
		}
		if isCall {
			cells = append(cells, status, millis)
		}
		cells = append(append(cells, outcome), values...)
		if isCall {
			cells = append(cells, alarm)
		}
		for i, cell := range cells {
			cells[i] = inCell(cell)
		}
		_ = w.Write(cells)
	}
	line(s.Of, "at", "row", "status", "milliseconds", "outcome", s.Paths, "alarm")
	for _, p := range points {
		line(strconv.Itoa(p.Number), p.At.UTC().Format(time.RFC3339Nano), p.Row, strconv.Itoa(p.Status),
			strconv.FormatFloat(p.Millis, 'f', 3, 64), p.Outcome, p.Values, strconv.FormatBool(p.Alarm))
	}
	w.Flush()
	return w.Error()
}

// SVG draws the values that are numbers over time; where there is none, how long the exchanges took.
func (s *Series) SVG(to io.Writer) error {
	points := s.Points()
	type line struct {
		name string
		at   func(Point) (float64, bool)
	}
	var lines []line
	for i, path := range s.Paths {
		number := func(p Point) (float64, bool) {
			value, err := strconv.ParseFloat(p.Values[i], 64)
			return value, err == nil && !math.IsInf(value, 0) && !math.IsNaN(value)
		}
		if slices.ContainsFunc(points, func(p Point) bool { _, is := number(p); return is }) {
			lines = append(lines, line{path, number})
		}
	}
	y := "value"
	if len(lines) == 0 {
		y = "time (ms)"
		lines = []line{{"time", func(p Point) (float64, bool) { return p.Millis, p.Millis > 0 }}}
	}
	at := func(point Point) float64 { return point.At.Sub(points[0].At).Seconds() }
	x := "seconds"
	if s.Of != ofCalls { // nights are far apart, and some are missing
		at, x = func(point Point) float64 { return float64(point.Number) }, s.Of
	}
	p := newPlot(harmlessText(s.Title), x, y)
	p.X.Tick.Marker, p.Y.Tick.Marker = niceTicks{}, niceTicks{}
	for i, one := range lines[:min(len(lines), mostSeries)] {
		var xys plotter.XYs
		for _, point := range points {
			if value, is := one.at(point); is {
				xys = append(xys, plotter.XY{X: at(point), Y: value})
			}
		}
		drawnLine, err := plotter.NewLine(xys)
		if err != nil {
			return err
		}
		drawnLine.Color, drawnLine.Width = seriesColour(i), 1.4
		p.Add(drawnLine)
		p.Legend.Add(harmlessText(one.name), drawnLine)
	}
	room := max((p.Y.Max-p.Y.Min)*0.08, 0.5) // above is the legend
	p.Y.Min, p.Y.Max = p.Y.Min-room, p.Y.Max+room*float64(2+len(lines))
	if err := s.addAlarms(p, points); err != nil {
		return err
	}
	return alone(to, p, s.Title)
}

// addAlarms marks the points at which the alarm was on, at the foot of the plot.
func (s *Series) addAlarms(p *plot.Plot, points []Point) error {
	var xys plotter.XYs
	for _, point := range points {
		if point.Alarm {
			xys = append(xys, plotter.XY{X: point.At.Sub(points[0].At).Seconds(), Y: p.Y.Min})
		}
	}
	if len(xys) == 0 {
		return nil
	}
	marks, err := plotter.NewScatter(xys)
	if err != nil {
		return err
	}
	marks.Color, marks.Radius = failedColour, 3
	p.Add(marks)
	p.Legend.Add("alarm", marks)
	return nil
}

// alone writes a plot as a file of its own, in the colours of the page.
func alone(to io.Writer, p *plot.Plot, words string) error {
	text, err := drawn(p, words)
	if err != nil {
		return err
	}
	colours, _, _ := strings.Cut(pageStyle, "}")
	frame := fmt.Sprintf(`viewBox="-8 -8 %d %d"`, plotWidth+16, plotHeight+16) // with a margin
	text = strings.Replace(text, fmt.Sprintf(`viewBox="0 0 %d %d"`, plotWidth, plotHeight), frame, 1)
	head, rest, _ := strings.Cut(text, ">")
	_, err = fmt.Fprintf(to, `<?xml version="1.0" encoding="UTF-8"?>`+"\n"+
		`%s xmlns="http://www.w3.org/2000/svg" width="%d" height="%d"><style>%s; } `+
		`svg { background: var(--paper); font-family: "Liberation Sans", "DejaVu Sans", sans-serif; }</style>%s`,
		head, 2*plotWidth, 2*plotHeight, colours, rest)
	return err
}
