package sheet

import (
	"regexp"
	"slices"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/document"
	"testbench/internal/yamlfile"
)

// Batch is several requests that a step sends as one.
type Batch struct {
	Service  string
	JSON     bool // in JSON, not as multipart/mixed
	Together bool // changes are done as a whole or not at all
	Parts    []*Step

	At *yamlfile.Node
}

// batchKeys belong to a step; what reads the parts is set below, for steps hold
// steps.
var batchKeys = []bench.Key[Step]{
	bench.NewKey("batch", "a service: the parts are sent to it as one request", func(r *bench.Reader, s *Step, n *yamlfile.Node) {
		s.batch().Service, s.Batch.At = r.PlainText(n), n
	}),
	bench.NewKey("as", "of a batch: multipart or json", func(r *bench.Reader, s *Step, n *yamlfile.Node) {
		s.batch().JSON = r.Choice(n, "form of a batch", "multipart", "json") == "json"
	}),
	bench.NewKey("together", "of a batch: true where its changes are done as a whole or not at all", func(r *bench.Reader, s *Step, n *yamlfile.Node) {
		s.batch().Together = r.Yes(n)
	}),
}

func (s *Step) batch() *Batch {
	if s.Batch == nil {
		s.Batch = &Batch{}
	}
	return s.Batch
}

func init() {
	stepKeys = append(stepKeys, batchKeys...)
	for i := range stepKeys {
		if stepKeys[i].Name != "parts" {
			continue
		}
		ofBody := stepKeys[i].Read
		stepKeys[i].Holds = "parts of a multipart body; of a batch, steps"
		stepKeys[i].Read = func(r *bench.Reader, s *Step, n *yamlfile.Node) {
			if s.At.Get("batch") == nil {
				ofBody(r, s, n)
				return
			}
			s.batch().Parts = readSteps(r, n)
			for _, part := range s.Batch.Parts {
				if part.Call == "" && part.Request == nil && part.Follow == nil || part.Batch != nil {
					r.File.Report(part.At, "", "a part of a batch is a call, a request, or follows a place")
				}
				for _, e := range part.At.Entries {
					if !slices.Contains(ofPart, e.Key.Text) && slices.ContainsFunc(stepKeys, func(k bench.Key[Step]) bool { return k.Name == e.Key.Text }) {
						r.File.Report(e.Key, "put it at the batch as a whole, or make a step of the part", "a part of a batch has no %s", e.Key.Text)
					}
				}
			}
		}
	}
}

// finishBatch checks what only the whole step can tell.
func finishBatch(r *bench.Reader, s *Step) {
	if len(s.Batch.Parts) == 0 {
		r.File.Report(s.At, "write parts: with a list of steps", "the batch has no parts")
	}
}

// PlaceForm finds the mark of an earlier part in an address.
var PlaceForm = regexp.MustCompile(`/(\$[0-9]+)(/.*)?$`)

// Place is what an earlier part of a batch will have made: the protocol calls it
// $1. It is known by that name until the batch is answered.
func Place(id string) *document.Node { return document.NewUntyped("$" + id) }

// IsPlace says whether a kept value is the address of what a part makes.
func IsPlace(k Keep) bool {
	return k.Filters == nil && (strings.EqualFold(k.Source, "reply.headers.Location") || strings.HasSuffix(k.Source, "@odata.id"))
}
