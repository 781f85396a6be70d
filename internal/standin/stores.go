package standin

import (
	_ "embed" // the contract
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// stores keeps lots of honey in depots and is searched by REST.
type stores struct {
	gate  *gate
	mutex sync.Mutex
	lots  []*lot
	moves int
}

//go:embed demo/contracts/stores.yaml
var storesContract string

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

func newStores(g *gate) *stores {
	s := &stores{gate: g}
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

func (s *stores) register(mux *http.ServeMux) {
	mux.HandleFunc("GET /stores/lots", s.gate.guard("stores.read", s.search))
	mux.HandleFunc("GET /stores/lots/{id}", s.gate.guard("stores.read", s.details))
	mux.HandleFunc("POST /stores/moves", s.gate.guard("stores.write", s.move))
	mux.HandleFunc("/stores/lots", onlyBy("GET, HEAD"))
	mux.HandleFunc("/stores/lots/{id}", onlyBy("GET, HEAD"))
	mux.HandleFunc("/stores/moves", onlyBy("POST"))
	mux.HandleFunc("GET /stores/openapi.yaml", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/yaml")
		_, _ = io.WriteString(w, strings.ReplaceAll(storesContract, "http://127.0.0.1:8720", "http://"+r.Host))
	})
	mux.HandleFunc("/stores/", func(w http.ResponseWriter, r *http.Request) {
		problem(w, http.StatusNotFound, "no_such_path", "", "there is nothing at "+r.URL.Path)
	})
}

// depot reads the work area, which stands beside the credentials.
func (s *stores) depot(w http.ResponseWriter, r *http.Request) (string, bool) {
	depot := r.Header.Get("X-Depot")
	if depot != "north" && depot != "south" {
		problem(w, http.StatusBadRequest, "no_depot", "X-Depot", "the header X-Depot must be north or south")
		return "", false
	}
	return depot, true
}

func (s *stores) find(id string) *lot {
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
func (s *stores) search(w http.ResponseWriter, r *http.Request) {
	depot, ok := s.depot(w, r)
	if !ok {
		return
	}
	query := r.URL.Query()
	for name := range query {
		if !slices.Contains([]string{"grade", "from", "to", "kind", "keeper", "page"}, name) {
			problem(w, http.StatusBadRequest, "unknown_parameter", name, "there is no parameter "+name)
			return
		}
	}
	for _, name := range []string{"grade", "from", "to"} {
		for _, grade := range query[name] {
			if !slices.Contains([]string{"A", "B", "C"}, grade) {
				problem(w, http.StatusBadRequest, "bad_value", name, name+" must be A, B or C")
				return
			}
		}
	}
	for _, kind := range query["kind"] {
		if !slices.Contains(indexKinds, kind) {
			problem(w, http.StatusBadRequest, "bad_value", "kind",
				"kind must be one of "+strings.Join(indexKinds, ", "))
			return
		}
	}
	page := 1
	if text := query.Get("page"); text != "" {
		var err error
		if page, err = strconv.Atoi(text); err != nil || page < 1 {
			problem(w, http.StatusBadRequest, "bad_value", "page", "page must be a whole number from 1")
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
	writeJSON(w, http.StatusOK, body)
}

func (s *stores) details(w http.ResponseWriter, r *http.Request) {
	depot, ok := s.depot(w, r)
	if !ok {
		return
	}
	l := s.find(r.PathValue("id"))
	if l == nil || l.Depot != depot {
		problem(w, http.StatusNotFound, "no_such_lot", "id",
			fmt.Sprintf("there is no lot %s in the depot %s", r.PathValue("id"), depot))
		return
	}
	w.Header().Set("Last-Modified", "Mon, 02 Nov 2026 08:00:00 GMT")
	writeJSON(w, http.StatusOK, l)
}

// move brings a lot to another depot.
func (s *stores) move(w http.ResponseWriter, r *http.Request) {
	depot, ok := s.depot(w, r)
	if !ok {
		return
	}
	fields, ok := body(w, r)
	if !ok {
		return
	}
	texts := map[string]string{}
	for name, value := range fields {
		text, isText := value.(string)
		switch {
		case !slices.Contains([]string{"lot", "to", "on", "note"}, name):
			problem(w, http.StatusUnprocessableEntity, "unknown_field", name, "there is no field "+name)
			return
		case !isText:
			problem(w, http.StatusUnprocessableEntity, "bad_type", name, name+" must be a text")
			return
		}
		texts[name] = text
	}
	on := texts["on"]
	if on == "" {
		on = time.Now().Format(time.DateOnly)
	}
	l := s.find(texts["lot"])
	switch _, err := time.Parse(time.DateOnly, on); {
	case texts["lot"] == "":
		problem(w, http.StatusUnprocessableEntity, "missing_field", "lot", "lot is mandatory")
	case texts["to"] != "north" && texts["to"] != "south":
		problem(w, http.StatusUnprocessableEntity, "bad_value", "to", "to must be north or south")
	case err != nil:
		problem(w, http.StatusUnprocessableEntity, "bad_value", "on", "on must be a day: 2026-11-23")
	case l == nil || l.Depot != depot:
		problem(w, http.StatusNotFound, "no_such_lot", "lot",
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
		writeJSON(w, http.StatusCreated, answer)
	}
}
