// Package formats tells the formats of contracts apart by what they hold, and
// reads them.
package formats

import (
	"testbench/internal/contract"
	"testbench/internal/contract/openapi"
	"testbench/internal/document"
	"testbench/internal/lazy"
)

// Fetch gets the document that base speaks of as location; an empty base is the
// tester.
type Fetch = func(base, location string) (resolved string, data []byte, err error)

// Load gets a contract and reads it.
func Load(location string, fetch Fetch) (contract.Contract, error) {
	resolved, data, err := fetch("", location)
	if err != nil {
		return nil, err
	}
	return Read(resolved, data, fetch)
}

// LooksLike says whether a document, of which the start is enough, is surely a contract.
// A JSON Schema that does not say so itself could be any JSON.
func LooksLike(start []byte) bool {
	if openapi.Is(start) {
		return true
	}
	if document.Guess(start) == document.XML {
		return rootOfContract().Match(start)
	}
	return jsonOfContract().Match(start)
}

// How contracts begin that are not OpenAPI.
var (
	rootOfContract = lazy.Regexp(
		`^(?s)(?:[^<]*<(?:\?|!--|!DOCTYPE).*?>)*[^<]*<(?:[\w.-]+:)?(?:definitions|schema|application|Edmx)[\s>]`)
	jsonOfContract = lazy.Regexp(`^\s*\{\s*(?:"\$id"[^,]*,\s*)?"(?:\$schema|\$Version)"\s*:`)
)
