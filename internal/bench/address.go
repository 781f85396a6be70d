package bench

import (
	"errors"
	"slices"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/mapping"
	"testbench/internal/request"
	"testbench/internal/syntax"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// CheckAddresses reports services whose address at a site cannot be one, as far as the bench tells it. What is
// given on the command line is in place of a value of the site, and not known here.
func (b *Bench) CheckAddresses(site *Site, given map[string]string) {
	for _, s := range b.Services {
		address, at := s.Address, b.Source.Root.Get("services").Get(s.Name).Get("address")
		if own := site.Services[s.Name]; own != nil {
			address, at = own, b.Source.Root.Get("sites").Get(site.Name).Get("services").Get(s.Name)
		}
		if address == nil || address.IsUnreadable() {
			continue
		}
		text, err := address.Text(&siteNames{site: site, given: given}, value.Raw)
		if err != nil {
			continue
		}
		_, err = request.ParseAddress(text.Sent)
		hasPath := func(op *contract.Endpoint) bool { return op.Path != "" }
		if err == nil && slices.ContainsFunc(s.Operations, hasPath) {
			err = CheckBase(text.Sent)
		}
		if err == nil {
			continue
		}
		if at == nil {
			at = s.at
		}
		isTold := func(p yamlfile.Problem) bool { return p.Line == at.Line } // of another site
		if !slices.ContainsFunc(b.Source.Problems, isTold) {
			(&mapping.Reader{File: b.Source}).Mistake(at, 0, err)
		}
	}
}

// CheckBase says what is wrong with an address that a path comes after.
func CheckBase(address string) error {
	if !strings.Contains(address, "?") {
		return nil
	}
	return &syntax.Error{
		Message: "the address of the service holds a query (?), and a path comes after it",
		Try:     "write the query at the service under always: query: NAME: VALUE",
	}
}

// siteNames knows the values of a site that need nothing else to be known.
type siteNames struct {
	site  *Site
	given map[string]string
	depth int
}

var errNotKnown = errors.New("it is not known here")

// Lookup finds a value of the site.
func (n *siteNames) Lookup(space, name string) (*document.Node, error) {
	tree := n.site.Value(name)
	_, isGiven := n.given[name]
	if tree == nil || isGiven || space != "" && space != "site" || n.depth > 10 {
		return nil, errNotKnown
	}
	return tree.Node(&siteNames{n.site, n.given, n.depth + 1})
}

// Hide has nothing to hide: secrets are not among what is known.
func (*siteNames) Hide(string) {}
