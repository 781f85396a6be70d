// Package stores is the REST service of the stand-in, described in OpenAPI.
package stores

import (
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"testbench/internal/standin/demo"
	"testbench/internal/standin/gate"
	"testbench/internal/standin/prices"
	"testbench/internal/standin/service"
)

// Service keeps lots of honey in depots and is searched by REST.
type Service struct {
	gate  *gate.Service
	mutex sync.Mutex
	lots  []*lot
	moves int
}

var storesContract = demo.File("contracts/stores.yaml")

type lot struct {
	ID        string   `json:"id"`
	Keeper    string   `json:"keeper"`
	Kind      string   `json:"kind"`
	Depot     string   `json:"depot"`
	Grade     string   `json:"grade"`
	Kilos     float64  `json:"kilos"`
	Harvested string   `json:"harvested"`
	Barrels   []barrel `json:"barrels"`
}

type barrel struct {
	Number int     `json:"number"`
	Kilos  float64 `json:"kilos"`
}

// New makes stores with the lots of the demo.
func New(g *gate.Service) *Service {
	s := &Service{gate: g}
	keepers := []string{"Ansel Thripp", "Bryony Garrow", "Corin Fenwick", "Della Marsh"}
	kinds := []string{"heather", "clover", "linden"}
	grades := []string{"A", "A", "B", "A", "C", "B"}
	depots := []string{"north", "north", "south"}
	for i := range 18 {
		l := &lot{
			ID: fmt.Sprintf("L-%d", 2201+i), Keeper: keepers[i%len(keepers)], Kind: kinds[i%len(kinds)],
			Depot: depots[i%len(depots)],
			Grade: grades[i%len(grades)], Harvested: fmt.Sprintf("2026-%02d-%02d", 7+i%3, 3+i),
		}
		for n := range 1 + i%3 {
			kilos := float64(40*(n+1)) + float64(i)*0.5
			l.Barrels = append(l.Barrels, barrel{Number: n + 1, Kilos: kilos})
			l.Kilos += kilos
		}
		s.lots = append(s.lots, l)
	}
	return s
}

// Register puts the stores at its addresses.
func (s *Service) Register(mux *http.ServeMux) {
	mux.HandleFunc("GET /stores/lots", s.gate.Guard("stores.read", s.search))
	mux.HandleFunc("GET /stores/lots/{id}", s.gate.Guard("stores.read", s.details))
	mux.HandleFunc("POST /stores/moves", s.gate.Guard("stores.write", s.move))
	mux.HandleFunc("/stores/lots", service.OnlyBy("GET, HEAD"))
	mux.HandleFunc("/stores/lots/{id}", service.OnlyBy("GET, HEAD"))
	mux.HandleFunc("/stores/moves", service.OnlyBy("POST"))
	mux.HandleFunc("GET /stores/openapi.yaml", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/yaml")
		_, _ = io.WriteString(w, strings.ReplaceAll(storesContract, "http://127.0.0.1:8720", "http://"+r.Host))
	})
	mux.HandleFunc("/stores/", func(w http.ResponseWriter, r *http.Request) {
		service.Problem(w, http.StatusNotFound, "no_such_path", "", "there is nothing at "+r.URL.Path)
	})
}

// depot reads the work area, which is beside the credentials.
func (s *Service) depot(w http.ResponseWriter, r *http.Request) (string, bool) {
	depot := r.Header.Get("X-Depot")
	if depot != "north" && depot != "south" {
		service.Problem(w, http.StatusBadRequest, "no_depot", "X-Depot", "the header X-Depot must be north or south")
		return "", false
	}
	return depot, true
}

// Find gives a lot by its number; nil for none.
func (s *Service) Find(id string) *lot {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	for _, l := range s.lots {
		if l.ID == id {
			return l
		}
	}
	return nil
}

const pageSize = 5

// search filters by grade (repeated, or a range from-to), kind and keeper.
func (s *Service) search(w http.ResponseWriter, r *http.Request) {
	depot, ok := s.depot(w, r)
	if !ok {
		return
	}
	query := r.URL.Query()
	for name := range query {
		if !slices.Contains([]string{"grade", "from", "to", "kind", "keeper", "page"}, name) {
			service.Problem(w, http.StatusBadRequest, "unknown_parameter", name, "there is no parameter "+name)
			return
		}
	}
	for _, name := range []string{"grade", "from", "to"} {
		for _, grade := range query[name] {
			if !slices.Contains([]string{"A", "B", "C"}, grade) {
				service.Problem(w, http.StatusBadRequest, "bad_value", name, name+" must be A, B or C")
				return
			}
		}
	}
	for _, kind := range query["kind"] {
		if !slices.Contains(prices.Kinds, kind) {
			service.Problem(w, http.StatusBadRequest, "bad_value", "kind",
				"kind must be one of "+strings.Join(prices.Kinds, ", "))
			return
		}
	}
	page := 1
	if text := query.Get("page"); text != "" {
		var err error
		if page, err = strconv.Atoi(text); err != nil || page < 1 {
			service.Problem(w, http.StatusBadRequest, "bad_value", "page", "page must be a whole number from 1")
			return
		}
	}
	found := []*lot{}
	s.mutex.Lock()
	for _, l := range s.lots {
		if l.Depot == depot && (len(query["grade"]) == 0 || slices.Contains(query["grade"], l.Grade)) &&
			(query.Get("from") == "" || l.Grade >= query.Get("from")) &&
			(query.Get("to") == "" || l.Grade <= query.Get("to")) &&
			(query.Get("kind") == "" || l.Kind == query.Get("kind")) &&
			(query.Get("keeper") == "" || strings.EqualFold(l.Keeper, query.Get("keeper"))) {
			found = append(found, l)
		}
	}
	s.mutex.Unlock()
	total := len(found)
	start := min((page-1)*pageSize, total)
	end := min(start+pageSize, total)
	body := map[string]any{
		"depot": depot, "total": total, "page": page, "pages": (total + pageSize - 1) / pageSize,
		"lots": found[start:end],
	}
	service.WriteJSON(w, http.StatusOK, body)
}

func (s *Service) details(w http.ResponseWriter, r *http.Request) {
	depot, ok := s.depot(w, r)
	if !ok {
		return
	}
	l := s.Find(r.PathValue("id"))
	if l == nil || l.Depot != depot {
		service.Problem(w, http.StatusNotFound, "no_such_lot", "id",
			fmt.Sprintf("there is no lot %s in the depot %s", r.PathValue("id"), depot))
		return
	}
	w.Header().Set("Last-Modified", "Mon, 02 Nov 2026 08:00:00 GMT")
	service.WriteJSON(w, http.StatusOK, l)
}

// move brings a lot to another depot.
func (s *Service) move(w http.ResponseWriter, r *http.Request) {
	depot, ok := s.depot(w, r)
	if !ok {
		return
	}
	fields, ok := service.Body(w, r)
	if !ok {
		return
	}
	texts := map[string]string{}
	for name, value := range fields {
		text, isText := value.(string)
		switch {
		case !slices.Contains([]string{"lot", "to", "on", "note"}, name):
			service.Problem(w, http.StatusUnprocessableEntity, "unknown_field", name, "there is no field "+name)
			return
		case !isText:
			service.Problem(w, http.StatusUnprocessableEntity, "bad_type", name, name+" must be a text")
			return
		}
		texts[name] = text
	}
	on := texts["on"]
	if on == "" {
		on = time.Now().Format(time.DateOnly)
	}
	l := s.Find(texts["lot"])
	switch _, err := time.Parse(time.DateOnly, on); {
	case texts["lot"] == "":
		service.Problem(w, http.StatusUnprocessableEntity, "missing_field", "lot", "lot is mandatory")
	case texts["to"] != "north" && texts["to"] != "south":
		service.Problem(w, http.StatusUnprocessableEntity, "bad_value", "to", "to must be north or south")
	case err != nil:
		service.Problem(w, http.StatusUnprocessableEntity, "bad_value", "on", "on must be a day: 2026-11-23")
	case l == nil || l.Depot != depot:
		service.Problem(w, http.StatusNotFound, "no_such_lot", "lot",
			fmt.Sprintf("there is no lot %s in the depot %s", texts["lot"], depot))
	default:
		s.mutex.Lock()
		l.Depot = texts["to"]
		s.moves++
		number := fmt.Sprintf("M-%d", 700+s.moves)
		s.mutex.Unlock()
		w.Header().Set("Location", "/stores/lots/"+l.ID)
		answer := map[string]string{"number": number, "lot": l.ID, "to": l.Depot, "on": on}
		if texts["note"] != "" {
			answer["note"] = texts["note"]
		}
		service.WriteJSON(w, http.StatusCreated, answer)
	}
}
