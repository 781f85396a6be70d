package report

import (
	"encoding/csv"
	"errors"
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

	"testbench/internal/history"
	"testbench/internal/safefile"
)

// SeriesEndings are the formats of a series, in words.
const SeriesEndings = ".csv, .svg, .png"

// Point is one look at something that is watched, or a row of a run.
type Point struct {
	At      time.Time
	Number  int     // of the call or the run
	Row     string  // which row of the run; empty where there are none
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

// Size is that of a picture, in pixels. It is written 1280x480; the zero value is that.
type Size struct{ Width, Height int }

// The least and the most pixels of a picture each way.
const (
	leastPixels = 200
	mostPixels  = 8_000
)

func (s *Size) String() string { return "" }

// Set reads it.
func (s *Size) Set(text string) error {
	var rest string
	n, _ := fmt.Sscanf(text+" ", "%dx%d%s", &s.Width, &s.Height, &rest)
	if n != 2 || min(s.Width, s.Height) < leastPixels || max(s.Width, s.Height) > mostPixels {
		return fmt.Errorf("a size is written as 1280x480, with %d to %d pixels each way, not %q", leastPixels,
			mostPixels, text)
	}
	return nil
}

// or gives the size, or the usual one where there is none.
func (s *Size) or() Size {
	if s.Width == 0 {
		return Size{2 * plotWidth, 2 * plotHeight}
	}
	return *s
}

// Series is what is watched, over time.
type Series struct {
	Title  string
	Of     string // what the numbers count: call, run
	Paths  []string
	Size   Size // of the plot; zero for the usual one
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

// SeriesOf is the series of what rows kept under some names. Rows of several sheets or sites are told apart.
func SeriesOf(values *history.Values, names []string) *Series {
	s := &Series{Of: "run", Title: strings.Join(names, ", "), Paths: names}
	var files, sites []string
	for _, one := range values.Rows {
		files, sites = append(files, one.File), append(sites, one.Site)
	}
	isOfSeveral := func(all []string) bool { return len(slices.Compact(slices.Sorted(slices.Values(all)))) > 1 }
	ofFiles, ofSites := isOfSeveral(files), isOfSeveral(sites)
	for _, one := range values.Rows {
		row := []string{one.Row}
		if ofFiles {
			row = append(row, one.File)
		}
		if ofSites {
			row = append(row, one.Site)
		}
		p := Point{
			At: one.Started, Number: one.Run, Outcome: one.Outcome,
			Row: strings.Join(slices.DeleteFunc(row, func(s string) bool { return s == "" }), ", "),
		}
		for _, name := range names {
			p.Values = append(p.Values, string(one.Values[name]))
		}
		s.Add(p)
	}
	return s
}

// CheckSeriesName says whether a series can be written under the name, before it is: its ending says the format.
func CheckSeriesName(name string) error {
	if ending := strings.ToLower(filepath.Ext(name)); !slices.Contains(strings.Split(SeriesEndings, ", "), ending) {
		return fmt.Errorf("%s: the ending says the format, and there are %s", name, SeriesEndings)
	}
	return safefile.CheckPlace(name)
}

// WriteFile writes the series in the format that the ending of the name says.
func (s *Series) WriteFile(name string) error {
	if err := CheckSeriesName(name); err != nil {
		return err
	}
	write := map[string]func(io.Writer) error{".csv": s.CSV, ".svg": s.SVG, ".png": s.PNG}
	return safefile.Stream(name, 0o644, write[strings.ToLower(filepath.Ext(name))])
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

// SVG draws the values that are numbers over time; of calls where there is none, how long the exchanges took.
func (s *Series) SVG(to io.Writer) error {
	p, title, err := s.plot()
	if err != nil {
		return err
	}
	return alone(to, p, title, s.Size.or())
}

// PNG draws the same, in the colours of the page on paper.
func (s *Series) PNG(to io.Writer) error {
	p, _, err := s.plot()
	if err != nil {
		return err
	}
	return inPixels(to, p, s.Size.or())
}

// plot draws the series, and gives its title.
func (s *Series) plot() (*plot.Plot, string, error) {
	points := s.Points()
	lines, y := s.lines(points), "value"
	if len(lines) == 0 && s.Of != ofCalls {
		return nil, "", errors.New("no value is a number that could be drawn; a .csv file has them all")
	}
	if len(lines) == 0 {
		y = "time (ms)"
		lines = []line{{"time", func(p Point) (float64, bool) { return p.Millis, p.Millis > 0 }}}
	}
	title := s.Title
	if len(lines) > mostSeries {
		title = fmt.Sprintf("%s: the first %d of %d lines", title, mostSeries, len(lines))
		lines = lines[:mostSeries]
	}
	at := func(point Point) float64 { return point.At.Sub(points[0].At).Seconds() }
	x := "seconds"
	if s.Of != ofCalls { // nights are far apart, and some are missing
		at, x = func(point Point) float64 { return float64(point.Number) }, s.Of
	}
	p := newPlot(harmlessText(title), x, y)
	p.X.Tick.Marker, p.Y.Tick.Marker = niceTicks{}, niceTicks{}
	for i, one := range lines {
		var xys plotter.XYs
		for _, point := range points {
			if value, is := one.at(point); is {
				xys = append(xys, plotter.XY{X: at(point), Y: value})
			}
		}
		drawnLine, err := plotter.NewLine(xys)
		if err != nil {
			return nil, "", err
		}
		drawnLine.Color, drawnLine.Width = seriesColour(i), 1.4
		p.Add(drawnLine)
		p.Legend.Add(harmlessText(one.name), drawnLine)
	}
	room := max((p.Y.Max-p.Y.Min)*0.08, 0.5) // above is the legend
	p.Y.Min, p.Y.Max = p.Y.Min-room, p.Y.Max+room*float64(2+len(lines))
	if err := s.addAlarms(p, points); err != nil {
		return nil, "", err
	}
	return p, title, nil
}

// line is one of those that are drawn: of the points that have it a number.
type line struct {
	name string
	at   func(Point) (float64, bool)
}

// lines are those of each path, and of each row where there are several.
func (s *Series) lines(points []Point) []line {
	var rows []string
	for _, p := range points {
		if !slices.Contains(rows, p.Row) {
			rows = append(rows, p.Row)
		}
	}
	var lines []line
	for i, path := range s.Paths {
		for _, row := range rows {
			number := func(p Point) (float64, bool) {
				value, err := strconv.ParseFloat(p.Values[i], 64)
				return value, p.Row == row && err == nil && !math.IsInf(value, 0) && !math.IsNaN(value)
			}
			if !slices.ContainsFunc(points, func(p Point) bool { _, is := number(p); return is }) {
				continue
			}
			name := path
			switch {
			case len(rows) > 1 && len(s.Paths) == 1 && row != "":
				name = row // the title has the path
			case len(rows) > 1:
				name = strings.TrimSuffix(path+", "+row, ", ")
			}
			lines = append(lines, line{name, number})
		}
	}
	return lines
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
