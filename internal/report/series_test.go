package report_test

import (
	"bytes"
	"fmt"
	"image"
	"image/png"
	"maps"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/history"
	"testbench/internal/report"
	"testbench/internal/secret"
)

// A series that is longer than what is kept has its newest points; texts are not formulas; what is not a number is
// not drawn, and without numbers the times are.
func TestSeries(t *testing.T) {
	begun := time.Date(2026, 11, 29, 3, 0, 0, 0, time.UTC)
	s := report.Series{Of: "call", Title: "GET <x>", Paths: []string{"state", "total"}}
	for i := range 100_003 {
		s.Add(report.Point{
			At: begun.Add(time.Duration(i) * time.Second), Number: i + 1, Status: 200, Millis: 1.5, Outcome: "passed",
			Values: []string{"=1+1", "-5.48"}, Alarm: i == 100_002,
		})
	}
	points := s.Points()
	assert.Len(t, points, 100_000)
	assert.Equal(t, []int{4, 100_003}, []int{points[0].Number, points[len(points)-1].Number})
	var table, plot strings.Builder
	require.NoError(t, s.CSV(&table))
	assert.Contains(t, table.String(), "\r\n100003,2026-11-30T06:46:42Z,200,1.500,passed,'=1+1,-5.48,true\r\n")
	require.NoError(t, s.SVG(&plot))
	assert.Contains(t, plot.String(), ">total</text>")
	assert.Contains(t, plot.String(), ">alarm</text>")
	assert.NotContains(t, plot.String(), ">state</text>")
	assert.Contains(t, plot.String(), `aria-label="GET &lt;x&gt;"`)
	for _, points := range [][]report.Point{nil, {{At: begun, Values: []string{"x", "y"}}}} {
		empty := report.Series{Of: "call", Title: "x", Paths: []string{"state", "total"}}
		for _, p := range points {
			empty.Add(p)
		}
		plot.Reset()
		require.NoError(t, empty.SVG(&plot))
		assert.Contains(t, plot.String(), "time (ms)")
	}
	assert.Error(t, s.WriteFile("x.pdf"))
	var picture bytes.Buffer
	require.NoError(t, s.Size.Set("640x320"))
	require.NoError(t, s.PNG(&picture))
	drawn, err := png.Decode(&picture)
	require.NoError(t, err)
	assert.Equal(t, image.Pt(640, 320), drawn.Bounds().Size())
	seen := map[string]bool{}
	for x := range 640 {
		for y := range 320 {
			r, g, b, _ := drawn.At(x, y).RGBA()
			seen[fmt.Sprintf("%02x%02x%02x", r>>8, g>>8, b>>8)] = true
		}
	}
	assert.Subset(t, slices.Collect(maps.Keys(seen)), []string{"fbfaf6", "8a5a00"}, "the paper and the first line")
	for _, wrong := range []string{"", "640", "640x", "100x100", "9000x300", "640x320x1", "axb"} {
		assert.Error(t, new(report.Size).Set(wrong), wrong)
	}
}

// Each row of each sheet and site has a line of its own, as many as can be told apart; texts alone are not drawn.
func TestSeriesOf(t *testing.T) {
	values := &history.Values{}
	for run := range 3 {
		for _, row := range []string{"row 1", "row 2"} {
			for _, file := range []string{"a.yaml", "b.yaml"} {
				for _, site := range []string{"north", "south"} {
					values.Rows = append(values.Rows, history.ValuesOf{
						Run: run + 1, Site: site, File: file, Row: row,
						Values: map[string]secret.Text{"total": secret.Text(strconv.Itoa(run)), "state": "open"},
					})
				}
			}
		}
	}
	var plot, table strings.Builder
	series := report.SeriesOf(values, []string{"state", "total"})
	require.NoError(t, series.SVG(&plot))
	assert.Contains(t, plot.String(), ">state, total: the first 6 of 8 lines</text>")
	assert.Contains(t, plot.String(), ">total, row 1, a.yaml, south</text>")
	require.NoError(t, series.CSV(&table))
	assert.Contains(t, table.String(), `"row 2, b.yaml, south"`)
	assert.ErrorContains(t, report.SeriesOf(values, []string{"state"}).SVG(&plot), "no value is a number")
}
