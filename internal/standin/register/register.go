// Package register is the service of the stand-in that is as old services are: the register of members. It writes
// ISO-8859-1, tells its errors with status 200, names its parameters with two letters, shows its contract to its
// own people alone, and keeps its stream of news open.
package register

import (
	"fmt"
	"html"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/text/encoding/charmap"

	"testbench/internal/standin/demo"
	"testbench/internal/standin/service"
)

// Service lists the members of the co-operative.
type Service struct{}

type member struct {
	number       int
	name, parish string
	joined       time.Time
}

func on(year int, month time.Month, day int) time.Time {
	return time.Date(year, month, day, 0, 0, 0, 0, time.UTC)
}

var members = []member{
	{7, "Åsa Björkvall", "Höghult", on(1998, time.May, 4)},
	{12, "Bryony Marl", "Heatherfold", on(2003, time.March, 28)},
	{19, "Señor Peñalver", "Upper Moor", on(2011, time.September, 1)},
	{23, "Ansel Thripp", "Heatherfold", on(2019, time.April, 15)},
}

// Register puts the register at its addresses.
func (s *Service) Register(mux *http.ServeMux) {
	mux.HandleFunc("GET /register/contract.json", s.contract)
	mux.HandleFunc("GET /register/members", s.find)
	mux.HandleFunc("GET /register/news", s.news)
}

// contract is shown to the clerk alone.
func (s *Service) contract(w http.ResponseWriter, r *http.Request) {
	if user, password, _ := r.BasicAuth(); user != "clerk" || !service.Same(password, service.Secrets["clerk"]) {
		w.Header().Set("WWW-Authenticate", `Basic realm="register"`)
		service.Problem(w, http.StatusUnauthorized, "not_logged_in", "", "the contract is for the clerks")
		return
	}
	w.Header().Set("Content-Type", "application/json")
	_, _ = io.WriteString(w, strings.ReplaceAll(contract, "http://127.0.0.1:8720", "http://"+r.Host))
}

var contract = demo.File("contracts/register.json")

// find lists members by a part of the name (nm), the parish (pa) and the day from which on they are members (jd, jm,
// jy).
func (s *Service) find(w http.ResponseWriter, r *http.Request) {
	query := r.URL.Query()
	var since time.Time
	if query.Get("jy") != "" {
		var parts [3]int
		for i, name := range []string{"jy", "jm", "jd"} {
			n, err := strconv.Atoi(query.Get(name))
			if err != nil {
				refuse(w, 3, name+" is not a number")
				return
			}
			parts[i] = n
		}
		since = on(parts[0], time.Month(parts[1]), parts[2])
	}
	var found strings.Builder
	for _, m := range members {
		if !strings.Contains(strings.ToLower(m.name), strings.ToLower(query.Get("nm"))) || m.joined.Before(since) ||
			query.Get("pa") != "" && query.Get("pa") != m.parish {
			continue
		}
		fmt.Fprintf(&found, "<member no=%q><name>%s</name><parish>%s</parish><joined>%s</joined></member>",
			strconv.Itoa(m.number),
			html.EscapeString(m.name), html.EscapeString(m.parish), m.joined.Format(time.DateOnly))
	}
	if found.Len() == 0 {
		refuse(w, 17, "no member is called so: "+query.Get("nm"))
		return
	}
	answer(w, `<register outcome="OK">`+found.String()+"</register>")
}

// refuse tells an error as it has always been told here.
func refuse(w http.ResponseWriter, code int, text string) {
	answer(w, fmt.Sprintf(`<register outcome="FAILED"><fault no="%d">%s</fault></register>`, code,
		html.EscapeString(text)))
}

func answer(w http.ResponseWriter, body string) {
	encoded, err := charmap.ISO8859_1.NewEncoder().String(`<?xml version="1.0" encoding="ISO-8859-1"?>` + body)
	if err != nil {
		service.Problem(w, http.StatusBadRequest, "not_latin", "nm", "only letters of ISO-8859-1 are known here")
		return
	}
	w.Header().Set("Content-Type", "text/xml")
	_, _ = io.WriteString(w, encoded)
}

// news sends the bulletin of the day word by word, says that it is over, and keeps the stream open.
func (s *Service) news(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "text/event-stream")
	words := []string{"The heather ", "is in bloom ", "above 300 m."}
	for i, word := range slices.Concat(words, []string{""}) {
		data := fmt.Sprintf(`{"part": {"text": %q}}`, word)
		if i == len(words) {
			data = "over"
		}
		if _, err := fmt.Fprintf(w, "id: %d\ndata: %s\n\n", i+1, data); err != nil {
			return
		}
	}
	_ = http.NewResponseController(w).Flush()
	<-r.Context().Done()
}
