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

// Point is one look at something that is watched.
type Point struct {
	At      time.Time
	Call    int
	Status  int     // 0 where no answer came
	Millis  float64 // how long the exchange took
	Outcome string
	Values  []string // of the paths of the series, masked
	Alarm   bool
}

// mostPoints bounds a series: of a longer one the newest are kept.
const mostPoints = 100_000

// Series is what is watched, over time.
type Series struct {
	Title  string
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
	head := append([]string{"call", "at", "status", "milliseconds", "outcome"}, s.Paths...)
	_ = w.Write(append(head, "alarm")) // Error tells
	for _, p := range s.Points() {
		cells := append([]string{
			strconv.Itoa(p.Call), p.At.UTC().Format(time.RFC3339Nano), strconv.Itoa(p.Status),
			strconv.FormatFloat(p.Millis, 'f', 3, 64), p.Outcome,
		}, p.Values...)
		for i, cell := range cells {
			cells[i] = inCell(cell)
		}
		_ = w.Write(append(cells, strconv.FormatBool(p.Alarm)))
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
	p := newPlot(harmlessText(s.Title), "seconds", y)
	p.X.Tick.Marker, p.Y.Tick.Marker = niceTicks{}, niceTicks{}
	for i, one := range lines[:min(len(lines), mostSeries)] {
		var xys plotter.XYs
		for _, point := range points {
			if value, is := one.at(point); is {
				xys = append(xys, plotter.XY{X: point.At.Sub(points[0].At).Seconds(), Y: value})
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
