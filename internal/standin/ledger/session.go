package ledger

import (
	"net/http"
	"sync"
	"time"

	"testbench/internal/standin/service"
)

// office is the ledger's face for people's programs: a session by cookie, and a
// word that must be asked for and repeated by every call that writes.
type office struct {
	options service.Options
	mutex   sync.Mutex
	open    map[string]*officeSession
}

type officeSession struct {
	word    string
	expires time.Time
}

const (
	officeCookie = "ledger_session"
	officeHeader = "Ledger-Word"
)

func (o *office) lifetime() time.Duration {
	if o.options.Lifetime > 0 {
		return time.Duration(o.options.Lifetime) * time.Second
	}
	return 10 * time.Minute
}

func (o *office) register(mux *http.ServeMux, l *Service) {
	mux.HandleFunc("POST /ledger/session", o.start)
	mux.HandleFunc("GET /ledger/session", o.guard(o.ask))
	mux.HandleFunc("DELETE /ledger/session", o.guard(o.end))
	for pattern, handler := range map[string]http.HandlerFunc{
		"POST /ledger/office/Intakes": l.create, "GET /ledger/office/Intakes": l.list,
		"GET /ledger/office/Intakes/{number}": l.read,
		"PUT /ledger/office/Intakes/{number}": l.change, "DELETE /ledger/office/Intakes/{number}": l.remove,
	} {
		mux.HandleFunc(pattern, o.guard(o.repeated(handler)))
	}
}

// start opens a session by user and password.
func (o *office) start(w http.ResponseWriter, r *http.Request) {
	user, password, ok := r.BasicAuth()
	if !ok || user != "clerk" || !service.Same(password, service.Secrets["clerk"]) {
		w.Header().Set("WWW-Authenticate", `Basic realm="ledger office", charset="UTF-8"`)
		service.Problem(w, http.StatusUnauthorized, "no_access", "", "user or password is wrong")
		return
	}
	id := service.Random()
	o.mutex.Lock()
	o.open[id] = &officeSession{word: service.Random(), expires: time.Now().Add(o.lifetime())}
	o.mutex.Unlock()
	http.SetCookie(w, &http.Cookie{Name: officeCookie, Value: id, Path: "/ledger/", HttpOnly: true})
	service.WriteJSON(w, http.StatusCreated, map[string]any{"user": user})
}

func (o *office) find(r *http.Request) (string, *officeSession) {
	cookie, err := r.Cookie(officeCookie)
	if err != nil {
		return "", nil
	}
	o.mutex.Lock()
	defer o.mutex.Unlock()
	s := o.open[cookie.Value]
	if s != nil && time.Now().After(s.expires) {
		delete(o.open, cookie.Value)
		s = nil
	}
	return cookie.Value, s
}

func (o *office) guard(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if _, s := o.find(r); s == nil {
			service.Problem(w, http.StatusUnauthorized, "no_session", "", "there is no session, or it has ended")
			return
		}
		next(w, r)
	}
}

// ask gives the word to one who asks for it.
func (o *office) ask(w http.ResponseWriter, r *http.Request) {
	if _, s := o.find(r); r.Header.Get(officeHeader) == "please" {
		w.Header().Set(officeHeader, s.word)
	}
	service.WriteJSON(w, http.StatusOK, map[string]any{"user": "clerk"})
}

// repeated wants the word with every call that writes.
func (o *office) repeated(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if _, s := o.find(r); r.Method != http.MethodGet &&
			(s == nil || !service.Same(r.Header.Get(officeHeader), s.word)) {
			w.Header().Set(officeHeader, "Required")
			service.Problem(w, http.StatusForbidden, "word_missing", officeHeader,
				"the word of the session must be repeated in "+officeHeader)
			return
		}
		next(w, r)
	}
}

func (o *office) end(w http.ResponseWriter, r *http.Request) {
	id, _ := o.find(r)
	o.mutex.Lock()
	delete(o.open, id)
	o.mutex.Unlock()
	w.WriteHeader(http.StatusNoContent)
}
