// Package prices is the service of the stand-in that is described in WADL: the price index.
package prices

import (
	"fmt"
	"html"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"testbench/internal/standin/demo"
	"testbench/internal/standin/service"
)

var indexWADL = demo.File("contracts/index.wadl")

var indexXSD = demo.File("contracts/index.xsd")

// Service publishes prices by plain GET, as XML.
type Service struct{}

// Register puts the price index at its addresses.
func (x *Service) Register(mux *http.ServeMux) {
	document := func(mediaType, text string) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", mediaType)
			_, _ = io.WriteString(w, strings.ReplaceAll(text, "http://127.0.0.1:8720", "http://"+r.Host))
		}
	}
	mux.HandleFunc("GET /index/application.wadl", document("application/vnd.sun.wadl+xml", indexWADL))
	mux.HandleFunc("GET /index/index.xsd", document("application/xml", indexXSD))
	mux.HandleFunc("GET /index/prices.xml", x.prices)
	mux.HandleFunc("GET /index/prices/{day}", x.price)
}

// Kinds are the kinds of honey that have a price.
var Kinds = []string{"heather", "clover", "linden"}

// centsOn is the price of a kind on a day: made up, and the same each time.
func centsOn(day time.Time, kind string) int64 {
	return 900 + int64(slices.Index(Kinds, kind))*120 + int64(day.YearDay()%17)*3
}

func (x *Service) prices(w http.ResponseWriter, r *http.Request) {
	query := r.URL.Query()
	refuse := func(format string, args ...any) {
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		w.WriteHeader(http.StatusBadRequest)
		fmt.Fprintf(w, format+"\n", args...)
	}
	day := func(prefix string) (time.Time, bool) {
		var parts [3]int
		for i, name := range []string{"y", "m", "d"} {
			n, err := strconv.Atoi(query.Get(prefix + name))
			if err != nil {
				refuse("%s%s must be a number", prefix, name)
				return time.Time{}, false
			}
			parts[i] = n
		}
		at := time.Date(parts[0], time.Month(parts[1]), parts[2], 0, 0, 0, 0, time.UTC)
		if at.Day() != parts[2] {
			refuse("%04d-%02d-%02d is not a day", parts[0], parts[1], parts[2])
			return time.Time{}, false
		}
		return at, true
	}
	from, ok := day("f")
	if !ok {
		return
	}
	to := from
	if query.Get("td") != "" {
		if to, ok = day("t"); !ok {
			return
		}
	}
	kinds := query["kind"]
	if len(kinds) == 0 {
		kinds = Kinds
	}
	for _, kind := range kinds {
		if !slices.Contains(Kinds, kind) {
			refuse("there is no kind %s", kind)
			return
		}
	}
	if to.Before(from) || to.Sub(from) > 31*24*time.Hour {
		refuse("the days must be in order, and 31 at most")
		return
	}
	x.send(w, from, to, kinds)
}

func (x *Service) send(w http.ResponseWriter, from, to time.Time, kinds []string) {
	w.Header().Set("Content-Type", "application/xml")
	fmt.Fprint(w, `<?xml version="1.0" encoding="utf-8"?>`+"\n"+`<prices xmlns="urn:heatherfold:index" currency="EUR">`)
	for day := from; !day.After(to); day = day.AddDate(0, 0, 1) {
		for _, kind := range kinds {
			fmt.Fprintf(w, `<price day="%s" kind="%s">%s</price>`, day.Format(time.DateOnly), kind,
				service.Cents(centsOn(day, kind)))
		}
	}
	fmt.Fprint(w, "</prices>")
}

func (x *Service) price(w http.ResponseWriter, r *http.Request) {
	text, isXML := strings.CutSuffix(r.PathValue("day"), ".xml")
	day, err := time.Parse(time.DateOnly, text)
	if err != nil || !isXML {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.WriteHeader(http.StatusNotFound)
		fmt.Fprintf(w, "<!doctype html><title>Not found</title><h1>There are no prices of %s</h1>",
			html.EscapeString(text))
		return
	}
	w.Header().Set("Last-Modified", day.Format(http.TimeFormat))
	x.send(w, day, day, Kinds)
}
