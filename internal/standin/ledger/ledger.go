// Package ledger is the ERP of the stand-in: OData 4.0 and 2.0, JSON-RPC, XML-RPC, a session of its
// own, and its books in a database.
package ledger

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"

	"testbench/internal/standin/service"
	"testbench/internal/standin/stores"
)

// Service is the co-operative's ERP: intakes are posted, read, changed under an
// ETag and removed; an older face takes group/service/method with wrapped JSON.
type Service struct {
	office  *office
	stores  *stores.Service
	mutex   sync.Mutex
	next    int
	intakes map[string]*intake
	// accounts are the intakes in a database; nil for none.
	accounts *Accounts
}

type intake struct {
	Number   string       `json:"number"`
	Lot      string       `json:"lot"`
	Grade    string       `json:"grade"`
	Kilos    json.Number  `json:"kilos"`
	Moisture json.Number  `json:"moisture"`
	Note     string       `json:"note,omitempty"`
	Currency string       `json:"currency"`
	Lines    []intakeLine `json:"lines"`
	Total    json.Number  `json:"total"`
	version  int
}

type intakeLine struct {
	Kind   string      `json:"kind"`
	Kilos  json.Number `json:"kilos"`
	Price  json.Number `json:"price"`
	Amount json.Number `json:"amount"`
}

// cents per kilogram by grade
var prices = map[string]int64{"A": 1250, "B": 980, "C": 715}

// New makes a ledger that takes in what the stores have.
func New(s *stores.Service, o service.Options, a *Accounts) *Service {
	return &Service{
		office: &office{options: o, open: map[string]*officeSession{}}, stores: s, next: 4501,
		intakes: map[string]*intake{}, accounts: a,
	}
}

// Register puts the ledger at its addresses.
func (l *Service) Register(mux *http.ServeMux) {
	mux.HandleFunc("POST /ledger/Intakes", l.guard(l.create))
	mux.HandleFunc("GET /ledger/Intakes/{number}", l.guard(l.read))
	mux.HandleFunc("PUT /ledger/Intakes/{number}", l.guard(l.change))
	mux.HandleFunc("DELETE /ledger/Intakes/{number}", l.guard(l.remove))
	mux.HandleFunc("POST /ledger/rpc/{group}/{service}/{method}", l.guard(l.rpc))
	l.office.register(mux, l)
	books := newBooks(l)
	(&rpcFace{books, map[string]bool{}}).register(mux, l)
	for _, f := range []*face{{books: books, root: "/ledger/v2", older: true}, {books: books, root: "/ledger"}} {
		mux.HandleFunc("GET "+f.root+"/$metadata", f.serve)
		mux.HandleFunc(f.root+"/", l.guard(f.serve))
		mux.HandleFunc("GET "+f.root+"/Intakes/$count", l.guard(f.serve))
	}
}

// guard asks for the key.
func (l *Service) guard(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		key := r.Header.Get("Ledger-Key")
		if !service.Same(key, service.Secrets["ledger_key"]) {
			message := "the header Ledger-Key is missing"
			if key != "" {
				message = "the key is not known"
			}
			service.Problem(w, http.StatusUnauthorized, "no_access", "", message)
			return
		}
		next(w, r)
	}
}

// fault is what is wrong with a field of an intake.
type fault struct{ code, field, message string }

// fill checks the fields of an intake and computes the rest.
func (l *Service) fill(i *intake, fields map[string]any) *fault {
	for name := range fields {
		if !slices.Contains([]string{"lot", "grade", "kilos", "moisture", "note"}, name) {
			return &fault{"unknown_field", name, "there is no field " + name}
		}
	}
	for _, name := range []string{"lot", "grade", "kilos", "moisture"} {
		if fields[name] == nil {
			return &fault{"missing_field", name, name + " is mandatory"}
		}
	}
	lot, isText := fields["lot"].(string)
	if !isText || l.stores.Find(lot) == nil {
		return &fault{"no_such_lot", "lot", fmt.Sprintf("lot %v is not in the stores", fields["lot"])}
	}
	grade, _ := fields["grade"].(string)
	price, ok := prices[grade]
	if !ok {
		return &fault{"bad_value", "grade", "grade must be A, B or C"}
	}
	var amounts [2]int64 // in hundredths
	for at, name := range []string{"kilos", "moisture"} {
		number, isNumber := fields[name].(json.Number)
		if !isNumber {
			return &fault{"bad_type", name, name + " must be a number"}
		}
		hundredths, err := hundredths(number.String())
		if err != nil || hundredths <= 0 {
			return &fault{
				"bad_value", name,
				name + " must be a positive number with at most two digits after the point",
			}
		}
		amounts[at] = hundredths
	}
	if amounts[1] > 2000 {
		return &fault{"too_moist", "moisture", "moisture must not exceed 20"}
	}
	note, _ := fields["note"].(string)
	i.Lot, i.Grade, i.Note, i.Currency = lot, grade, note, "EUR"
	i.Kilos, i.Moisture = fields["kilos"].(json.Number), fields["moisture"].(json.Number)
	// Two lines: the honey, and a levy of 2 percent taken off, rounded to cents.
	honey := (amounts[0]*price + 50) / 100
	levy := (honey*2 + 50) / 100
	i.Lines = []intakeLine{
		{Kind: "honey", Kilos: i.Kilos, Price: service.Cents(price), Amount: service.Cents(honey)},
		{Kind: "levy", Kilos: i.Kilos, Price: service.Cents(0), Amount: service.Cents(-levy)},
	}
	i.Total = service.Cents(honey - levy)
	return nil
}

// hundredths reads a decimal with at most two digits after the point.
func hundredths(text string) (int64, error) {
	whole, fraction, _ := strings.Cut(text, ".")
	if len(fraction) > 2 || len(whole) > 12 || strings.ContainsAny(text, "eE") {
		return 0, fmt.Errorf("%q", text)
	}
	value, err := strconv.ParseInt(whole+(fraction + "00")[:2], 10, 64)
	return value, err
}

func (i *intake) etag() string { return fmt.Sprintf(`"%s-%d"`, i.Number, i.version) }

// book makes an intake of fields, and says with which status it is refused.
func (l *Service) book(fields map[string]any) (*intake, *fault, int) {
	i := &intake{version: 1}
	if f := l.fill(i, fields); f != nil {
		return nil, f, http.StatusUnprocessableEntity
	}
	for _, other := range l.intakes {
		if other.Lot == i.Lot {
			return nil, &fault{
				"booked_already", "lot",
				fmt.Sprintf("lot %s is booked already as %s", i.Lot, other.Number),
			}, http.StatusConflict
		}
	}
	i.Number = fmt.Sprintf("IN-%d", l.next)
	l.next++
	l.intakes[i.Number] = i
	l.accounts.enter(i)
	return i, nil, 0
}

func (l *Service) create(w http.ResponseWriter, r *http.Request) {
	fields, ok := service.Body(w, r)
	if !ok {
		return
	}
	l.mutex.Lock()
	defer l.mutex.Unlock()
	i, wrong, status := l.book(fields)
	if wrong != nil {
		service.Problem(w, status, wrong.code, wrong.field, wrong.message)
		return
	}
	w.Header().Set("Location", "/ledger/Intakes/"+i.Number)
	w.Header().Set("ETag", i.etag())
	service.WriteJSON(w, http.StatusCreated, i)
}

func (l *Service) list(w http.ResponseWriter, r *http.Request) {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	found := []*intake{}
	for _, i := range l.intakes {
		if expected := r.URL.Query().Get("lot"); expected == "" || i.Lot == expected {
			found = append(found, i)
		}
	}
	slices.SortFunc(found, func(a, b *intake) int { return strings.Compare(a.Number, b.Number) })
	service.WriteJSON(w, http.StatusOK, map[string]any{"count": len(found), "intakes": found})
}

func (l *Service) find(w http.ResponseWriter, r *http.Request) *intake {
	i := l.intakes[r.PathValue("number")]
	if i == nil {
		service.Problem(w, http.StatusNotFound, "no_such_intake", "number", "there is no intake "+r.PathValue("number"))
	}
	return i
}

func (l *Service) read(w http.ResponseWriter, r *http.Request) {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	if i := l.find(w, r); i != nil {
		w.Header().Set("ETag", i.etag())
		service.WriteJSON(w, http.StatusOK, i)
	}
}

// matches checks If-Match (RFC 9110, 13.1.1): an intake may be changed only by
// one who saw its present version.
func (l *Service) matches(w http.ResponseWriter, r *http.Request, i *intake) bool {
	switch match := r.Header.Get("If-Match"); {
	case match == "":
		service.Problem(w, http.StatusPreconditionRequired, "no_version", "If-Match",
			"If-Match must say which version is meant")
	case match != "*" && match != i.etag():
		service.Problem(w, http.StatusPreconditionFailed, "changed_meanwhile", "If-Match",
			"the intake was changed meanwhile; it is now "+i.etag())
	default:
		return true
	}
	return false
}

func (l *Service) change(w http.ResponseWriter, r *http.Request) {
	fields, ok := service.Body(w, r)
	if !ok {
		return
	}
	l.mutex.Lock()
	defer l.mutex.Unlock()
	i := l.find(w, r)
	if i == nil || !l.matches(w, r, i) {
		return
	}
	changed := *i
	if f := l.fill(&changed, fields); f != nil {
		service.Problem(w, http.StatusUnprocessableEntity, f.code, f.field, f.message)
		return
	}
	changed.version++
	*i = changed
	l.accounts.enter(i)
	w.Header().Set("ETag", i.etag())
	service.WriteJSON(w, http.StatusOK, i)
}

func (l *Service) remove(w http.ResponseWriter, r *http.Request) {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	if i := l.find(w, r); i != nil {
		delete(l.intakes, i.Number)
		l.accounts.strike(i.Number)
		w.WriteHeader(http.StatusNoContent)
	}
}

// rpc answers stock/Balance/Read and stock/Lots/Count. As older systems do, it
// puts its errors into an answer with status 200.
func (l *Service) rpc(w http.ResponseWriter, r *http.Request) {
	fields, ok := service.Body(w, r)
	if !ok {
		return
	}
	name := strings.Join([]string{r.PathValue("group"), r.PathValue("service"), r.PathValue("method")}, "/")
	fail := func(code, message string) {
		service.WriteJSON(w, http.StatusOK,
			map[string]any{"response": nil, "error": map[string]string{"code": code, "message": message}})
	}
	request, ok := fields["request"].(map[string]any)
	if !ok {
		fail("BAD_WRAPPER", "the fields must be in an object named request")
		return
	}
	l.mutex.Lock()
	defer l.mutex.Unlock()
	switch name {
	case "stock/Balance/Read":
		lot, _ := request["lot"].(string)
		if l.stores.Find(lot) == nil {
			fail("NOT_FOUND", fmt.Sprintf("lot %q is not in the stores", lot))
			return
		}
		var total int64
		bookings := 0
		for _, i := range l.intakes {
			if i.Lot == lot {
				kilos, _ := hundredths(i.Kilos.String())
				total += kilos
				bookings++
			}
		}
		service.WriteJSON(w, http.StatusOK,
			map[string]any{
				"response": map[string]any{"lot": lot, "kilos": service.Cents(total), "bookings": bookings},
				"error":    nil,
			})
	case "stock/Lots/Count":
		service.WriteJSON(w, http.StatusOK,
			map[string]any{"response": map[string]any{"lots": len(l.intakes)}, "error": nil})
	default:
		service.Problem(w, http.StatusNotFound, "no_such_method", "", "there is no method "+name)
	}
}
