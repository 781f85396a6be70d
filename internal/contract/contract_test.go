package contract_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/rule"
)

var prices = contract.Endpoint{
	Name: "prices", Method: "GET", Path: "/prices/{year}/{month}.xml",
	Parameters: []contract.Parameter{
		{In: contract.InPath, Wire: "year", Name: "year", Required: true, Kind: "integer"},
		{In: contract.InPath, Wire: "month", Name: "month", Required: true},
		{In: contract.InQuery, Wire: "fd", Name: "from_day", Required: true, Kind: "integer"},
		{
			In: contract.InQuery, Wire: "kind", Name: "kind", Required: true, OneOf: []string{"heather", "clover"},
			Default: document.NewUntyped("heather"),
		},
		{In: contract.InQuery, Wire: "format", Name: "format", Fixed: document.NewUntyped("xml")},
		{In: contract.InQuery, Wire: "depot", Name: "depot"},
		{In: contract.InQuery, Wire: "region", Name: "region"},
	},
	Needs: [][]string{{"depot", "region"}},
}

func TestFind(t *testing.T) {
	assert.Equal(t, "fd", prices.Find("from_day").Wire)
	assert.Equal(t, "fd", prices.Find("fd").Wire, "the wire's name is known as well")
	assert.Equal(t, "depot", prices.Find("query.depot").Name)
	assert.Nil(t, prices.Find("path.depot"))
	assert.Equal(t, []string{"year", "month", "from_day", "kind", "depot", "region"}, prices.FieldNames(),
		"what is fixed cannot be filled")
	message, try := prices.UnknownField("form_day")
	assert.Equal(t, `prices has no field "form_day"`, message)
	assert.Equal(t, `did you mean "from_day"?`, try)
	_, try = prices.UnknownField("colour")
	assert.Contains(t, try, "its fields are: year")
}

func TestMissing(t *testing.T) {
	given := func(names ...string) func(string) bool {
		return func(name string) bool {
			for _, n := range names {
				if n == name {
					return true
				}
			}
			return false
		}
	}
	assert.Equal(t, []string{"year", "month", "from_day", "depot or region"}, prices.Missing(given()))
	assert.Empty(t, prices.Missing(given("year", "month", "from_day", "region")))
}

func TestCheck(t *testing.T) {
	day, kind := prices.Find("from_day"), prices.Find("kind")
	for _, c := range []struct {
		p    *contract.Parameter
		v    *document.Node
		want string
	}{
		{day, document.NewUntyped("5"), ""},
		{day, document.NewText("5"), ""}, // in a query everything is text
		{day, document.NewUntyped("five"), `from_day must be an integer, and is "five"`},
		{day, document.NewNumber("5.5"), "from_day must be an integer, and is 5.5"},
		{kind, document.NewUntyped("clover"), ""},
		{kind, document.NewUntyped("Clover"), `kind must be one of heather, clover, and is "Clover"`},
		{
			&contract.Parameter{In: contract.InBody, Name: "n", Kind: "number"}, document.NewText("5"),
			`n must be a number, and is "5"`,
		},
		{day, document.NewList(), ""},
	} {
		assert.Equal(t, c.want, c.p.Check(c.v, rule.IsKind))
	}
}

func TestPaths(t *testing.T) {
	assert.Equal(t, []string{"year", "month"}, contract.PathNames(prices.Path))
	assert.Equal(t, "/prices/2026/11.xml",
		contract.FillPath(prices.Path, map[string]string{"year": "2026", "month": "11"}))
	assert.False(t, prices.IsOpen())
	assert.True(t, (&contract.Endpoint{Method: "POST"}).IsOpen(),
		"a body that nobody described holds what is filled in")
}
