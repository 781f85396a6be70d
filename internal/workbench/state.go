package workbench

import (
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"sync"

	"testbench/internal/document"
	"testbench/internal/history"
	"testbench/internal/vet"
)

// kept are values by name.
type kept = map[string]*document.Node

// state is what a run leaves for those that go on from it: what was set on the command
// line, and what its rows kept. The history is masked, so it cannot be there; it is
// sealed to the user's identity.
type state struct {
	mutex sync.Mutex
	index map[rowKey]*keptRow // of Rows, where it is made
	Set   map[string]string   `json:"set,omitempty"`
	Rows  []*keptRow          `json:"rows"`
}

// rowKey tells rows apart.
type rowKey struct {
	file, phase  string
	turn, number int
}

type keptRow struct {
	File      string
	Phase     string `json:",omitempty"`
	Iteration int    `json:"Turn,omitempty"`
	Number    int    `json:",omitempty"`
	Outcome   string
	Kept      kept
}

// What a state holds at most. Rows that failed come first: it is they that are
// gone on with.
const (
	mostKeptRows  = 500
	mostKeptBytes = 600 << 10
)

// kept is what a row kept, or nil.
func (s *state) kept(file, phase string, turn, number int) kept {
	for _, row := range s.Rows {
		if row.File == file && row.Phase == phase && row.Iteration == turn && row.Number == number {
			return row.Kept
		}
	}
	return nil
}

// keep notes what a row kept.
func (s *state) keep(file string, row *RowResult, values kept) {
	if len(values) == 0 {
		return
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if s.index == nil {
		s.index = map[rowKey]*keptRow{}
		for _, r := range s.Rows {
			s.index[rowKey{r.File, r.Phase, r.Iteration, r.Number}] = r
		}
	}
	key := rowKey{file, row.Phase, row.Iteration, row.Number}
	if known := s.index[key]; known != nil {
		known.Outcome, known.Kept = string(row.Outcome), values
		return
	}
	if len(s.Rows) >= mostKeptRows {
		if row.Outcome == Passed {
			return
		}
		at := slices.IndexFunc(s.Rows, func(r *keptRow) bool { return r.Outcome == string(Passed) && r.Phase == "" })
		if at < 0 {
			return
		}
		old := s.Rows[at]
		delete(s.index, rowKey{old.File, old.Phase, old.Iteration, old.Number})
		s.Rows = slices.Delete(s.Rows, at, at+1)
	}
	one := &keptRow{file, row.Phase, row.Iteration, row.Number, string(row.Outcome), values}
	s.Rows = append(s.Rows, one)
	s.index[key] = one
}

// stateName is the name under which the state of a run is sealed.
func stateName(number int) string { return fmt.Sprintf("run_%d", number) }

func stateDir(b *Bench) string { return filepath.Join(b.Dir, ".testbench", "runs") }

// Prune takes all runs out of the history but the newest ones, with what they kept, and
// gives the numbers of those that are gone.
func Prune(b *Bench, keep int) ([]int, error) {
	store, err := b.History()
	if err != nil {
		return nil, err
	}
	gone, err := store.Prune(keep)
	for _, number := range gone {
		_, _ = b.Store.Beside(stateDir(b)).Remove("", stateName(number)) // most kept nothing
	}
	return gone, errors.Join(err, store.Close())
}

// saveKept seals what there is to go on from.
func (r *running) saveKept() {
	if r.state == nil {
		r.state = &state{}
	}
	r.state.Set = r.options.Set
	for _, w := range r.work {
		if w.Keep == nil {
			file := w.File()
			w.Keep = func(row *RowResult, values kept) {
				r.state.keep(file, row, values)
				if row.Phase == "first" {
					r.saveKept() // the rows hang on it
				}
			}
		}
	}
	r.state.mutex.Lock()
	defer r.state.mutex.Unlock()
	if len(r.state.Rows) == 0 && len(r.state.Set) == 0 {
		return
	}
	text, err := json.Marshal(r.state)
	for err == nil && len(text) > mostKeptBytes && len(r.state.Rows) > 0 {
		r.state.Rows = r.state.Rows[:len(r.state.Rows)/2]
		text, err = json.Marshal(r.state)
	}
	if err == nil {
		_, err = r.bench.Store.Beside(stateDir(r.bench)).Set("", stateName(r.writer.Number), string(text))
	}
	if err != nil {
		r.note("what the run kept cannot be sealed, so -from cannot go on from it: " + err.Error())
	}
}

// readState opens what a run left, or gives nil.
func readState(b *Bench, number int) *state {
	if b.Store == nil {
		return nil
	}
	text, err := b.Store.Beside(stateDir(b)).Get("", stateName(number))
	if err != nil {
		return nil
	}
	s := &state{}
	if json.Unmarshal([]byte(text), s) != nil {
		return nil
	}
	return s
}

// goOnFrom gives the rows what the newest run of their sheet kept.
func (r *running) goOnFrom() error {
	if r.store == nil {
		return errors.New("-from goes on from what the last run kept, and no run is recorded here")
	}
	last, err := r.store.Last()
	if err != nil {
		return err
	}
	for _, w := range r.work {
		before, err := r.lastWith(last, w.File())
		if err != nil {
			return err
		}
		steps := vet.NamesFrom(w.Sheet, r.options.From)
		w.Kept = func(phase string, turn, number int) kept {
			values := kept{}
			for name, node := range before.kept(w.File(), phase, turn, number) {
				if slices.Contains(steps, name) {
					continue // it is to be kept anew
				}
				node.Scalars(func(n *document.Node) {
					if n.Secret {
						r.options.Masker.Hide(n.Text)
					}
				})
				values[name] = node
			}
			return values
		}
	}
	return nil
}

// lastWith finds what the newest run left that ran a sheet.
func (r *running) lastWith(last int, file string) (*state, error) {
	for number := last; number > 0 && number > last-100; number-- {
		stored, err := r.store.Get(number)
		var gone *history.NotThereError
		if errors.As(err, &gone) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if !slices.Contains(stored.Run().Order.Files, file) {
			continue
		}
		if s := readState(r.bench, number); s != nil {
			return s, nil
		}
		return &state{}, nil
	}
	return nil, fmt.Errorf("-from goes on from what the last run kept, and %s was not run before", file)
}
