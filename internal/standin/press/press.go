// Package press is the service of the stand-in that takes work on and calls back when it is done.
package press

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"testbench/internal/standin/service"
)

// Service is the press hall: extraction jobs are accepted now and done later.
type Service struct {
	Clock func() time.Time
	mutex sync.Mutex
	jobs  []*pressJob
}

// What a job takes: it is queued, then runs.
const (
	pressQueue = 400 * time.Millisecond
	pressRun   = 200 * time.Millisecond
)

type pressJob struct {
	number    int
	lot       string
	kilos     float64
	begun     time.Time
	cancelled bool
	tell      string // where each change is told; empty for nowhere
	manner    string // how
}

// manners are the ways in which changes are told: the first is the usual one, the
// others are what goes wrong on real networks.
var manners = map[string][]pressCall{
	"usual":     {{0, "queued"}, {400, "running"}, {600, "done"}},
	"at once":   {{-1, "queued"}, {-1, "running"}, {-1, "done"}}, // before the answer
	"twice":     {{0, "queued"}, {10, "queued"}, {400, "running"}, {410, "running"}, {600, "done"}, {610, "done"}},
	"backwards": {{0, "running"}, {400, "queued"}, {600, "done"}},
	"skipping":  {{0, "queued"}, {600, "done"}},
	"never":     {},
	"lost":      {{0, "queued"}, {400, "running"}},
	"late":      {{0, "queued"}, {400, "running"}, {600, "done"}, {700, "running"}},
	"failing":   {{0, "queued"}, {400, "running"}, {600, "failed"}},
	"unsigned":  {{0, "queued"}, {400, "running"}, {600, "done"}},
	"others":    {{0, "queued"}, {400, "running"}, {600, "done"}}, // with those of another job between
}

// pressCall is a state, and when it is told after the answer, in milliseconds.
type pressCall struct {
	after int
	state string
}

// Register puts the press hall at its addresses.
func (p *Service) Register(mux *http.ServeMux) {
	mux.HandleFunc("POST /press/jobs", p.submit)
	mux.HandleFunc("GET /press/jobs/{number}", p.job(func(w http.ResponseWriter, _ *http.Request, j *pressJob) {
		service.WriteJSON(w, http.StatusOK, p.shown(j))
	}))
	mux.HandleFunc("PATCH /press/jobs/{number}", p.job(p.change))
}

func (p *Service) submit(w http.ResponseWriter, r *http.Request) {
	var expected struct {
		Lot   string   `json:"lot"`
		Kilos *float64 `json:"kilos"`
		// Tell is where each change of state is told, Manner how.
		Tell   string `json:"tell"`
		Manner string `json:"manner"`
	}
	decoder := json.NewDecoder(r.Body)
	decoder.DisallowUnknownFields()
	switch err := decoder.Decode(&expected); {
	case err != nil:
		service.Problem(w, http.StatusBadRequest, "not_a_job", "", "the body is not a job: "+err.Error())
		return
	case expected.Lot == "":
		service.Problem(w, http.StatusUnprocessableEntity, "missing_field", "lot", "lot is mandatory")
		return
	case expected.Kilos == nil || *expected.Kilos <= 0:
		service.Problem(w, http.StatusUnprocessableEntity, "bad_value", "kilos", "kilos must be over 0")
		return
	}
	if expected.Manner == "" {
		expected.Manner = "usual"
	}
	calls, known := manners[expected.Manner]
	switch {
	case !known:
		service.Problem(w, http.StatusUnprocessableEntity, "bad_value", "manner", "there is no manner "+expected.Manner)
		return
	case expected.Tell != "" && !service.IsLoopback(expected.Tell):
		service.Problem(w, http.StatusUnprocessableEntity, "bad_value", "tell",
			"changes are told to http addresses of this machine only")
		return
	}
	p.mutex.Lock()
	j := &pressJob{
		number: len(p.jobs) + 1, lot: expected.Lot, kilos: *expected.Kilos, begun: p.Clock(), tell: expected.Tell,
		manner: expected.Manner,
	}
	p.jobs = append(p.jobs, j)
	p.mutex.Unlock()
	if j.tell != "" {
		p.announce(j, calls)
	}
	w.Header().Set("Location", "/press/jobs/"+strconv.Itoa(j.number))
	service.WriteJSON(w, http.StatusAccepted, p.shown(j))
}

// announce tells the changes of a job to where it was asked for. Those that come before
// the answer are told here, the others when their time comes.
func (p *Service) announce(j *pressJob, calls []pressCall) {
	var rest []pressCall
	for _, c := range calls {
		if c.after < 0 {
			p.call(j, j.number, c.state)
		} else {
			rest = append(rest, c)
		}
	}
	go func() {
		begun := time.Now()
		for _, c := range rest {
			time.Sleep(time.Until(begun.Add(time.Duration(c.after) * time.Millisecond)))
			if j.manner == "others" {
				p.call(j, j.number+1000, c.state)
			}
			p.call(j, j.number, c.state)
		}
	}()
}

// call tells one state, signed with the press's key.
func (p *Service) call(j *pressJob, number int, state string) {
	told := map[string]any{"job": number, "lot": j.lot, "state": state}
	if state == "done" {
		told["honey"] = json.Number(strconv.FormatFloat(j.kilos*0.8, 'f', 2, 64))
	}
	body, err := json.Marshal(told)
	if err != nil {
		return
	}
	key := service.Secrets["press"]
	if j.manner == "unsigned" {
		key = "another key"
	}
	mac := hmac.New(sha256.New, []byte(key))
	_, _ = mac.Write(body)
	request, err := http.NewRequest(http.MethodPost, j.tell, bytes.NewReader(body))
	if err != nil {
		return
	}
	request.Header.Set("Content-Type", "application/json")
	request.Header.Set("Press-Signature", "sha256="+hex.EncodeToString(mac.Sum(nil)))
	client := &http.Client{Timeout: 5 * time.Second}
	if answer, err := client.Do(request); err == nil {
		_ = answer.Body.Close()
	}
}

// job finds the job that a path names.
func (p *Service) job(then func(http.ResponseWriter, *http.Request, *pressJob)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		number, err := strconv.Atoi(r.PathValue("number"))
		p.mutex.Lock()
		defer p.mutex.Unlock()
		if err != nil || number < 1 || number > len(p.jobs) {
			service.Problem(w, http.StatusNotFound, "no_such_job", "number", "there is no job "+r.PathValue("number"))
			return
		}
		then(w, r, p.jobs[number-1])
	}
}

// state is what has become of a job: lots of last year's comb, L-19 and so on, fail.
func (p *Service) state(j *pressJob) string {
	switch passed := p.Clock().Sub(j.begun); {
	case j.cancelled:
		return "cancelled"
	case passed < pressQueue:
		return "queued"
	case passed < pressQueue+pressRun:
		return "running"
	case strings.HasPrefix(j.lot, "L-19"):
		return "failed"
	}
	return "done"
}

func (p *Service) shown(j *pressJob) map[string]any {
	state := p.state(j)
	out := map[string]any{"number": j.number, "lot": j.lot, "kilos": j.kilos, "state": state}
	switch state {
	case "done":
		out["honey"] = json.Number(strconv.FormatFloat(j.kilos*0.8, 'f', 2, 64))
	case "failed":
		out["reason"] = "the comb is too old to be pressed"
	}
	return out
}

// change takes a job back, as long as it waits.
func (p *Service) change(w http.ResponseWriter, r *http.Request, j *pressJob) {
	var expected struct {
		State string `json:"state"`
	}
	if err := json.NewDecoder(r.Body).Decode(&expected); err != nil {
		service.Problem(w, http.StatusBadRequest, "not_a_change", "", "the body is not a change: "+err.Error())
		return
	}
	if state := p.state(j); expected.State != "cancelled" || state != "queued" {
		service.Problem(w, http.StatusConflict, "not_allowed", "state",
			fmt.Sprintf("the job is %s, and cannot become %s", state, expected.State))
		return
	}
	j.cancelled = true
	service.WriteJSON(w, http.StatusOK, p.shown(j))
}
