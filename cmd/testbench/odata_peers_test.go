//go:build peers

package main_test

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// A service by OData that is not ours, with a database after it, is used by its
// metadata alone.
func TestODataOfOthers(t *testing.T) {
	t.Parallel()
	peers, err := filepath.Abs("../../scripts/peers")
	require.NoError(t, err)
	port := freePort(t)
	serve(t, port, "node", "testdata/node/books.cjs", port, peers)
	p := newPlace(t)
	p.write("bench.yaml", "bench: t\nsites:\n  local:\n    set:\n      base: http://127.0.0.1:"+port+
		"\nservices:\n  b: ${base}/$metadata\n")
	p.write("batch.yaml", `sheet: batch
steps:
  - step: all
    batch: b
    as: json
    together: true
    parts:
      - step: supplier
        call: b/Suppliers.create
        fill: { name: Bryony }
        keep: { number: number }
      - step: order
        call: b/Orders.create
        fill: { note: in a batch, supplierNumber: 1 }
      - step: wrong
        call: b/Orders.create
        contract: answer
        fill: { note: [a list] }
        expect: { status: 400 }
  - step: nothing of it is kept, for a part was refused
    call: b/Suppliers.count
    fields: { answer: 1 }
  - step: alone
    batch: b
    as: json
    parts:
      - step: supplier
        call: b/Suppliers.create
        fill: { name: Bryony }
        keep: { number: number }
  - step: read
    call: b/Suppliers.read
    fill: { number: "${number}" }
    fields: { name: Bryony }
  - step: found
    follow: Suppliers(${number})
    service: b
    fields: { name: Bryony }
`)
	p.cases([]commandCase{
		{"survey b", 0, []string{"orders.list, orders.create", "supplier.read"}},
		{"survey b Suppliers.create", 0, []string{"integer, key (the service may choose it)"}},
		{"call b/Suppliers.create name=Hettie limit=12.50 since=2026-11-23T08:00:00.000Z active=true orders.0.note=first orders.1.note=second", 0, []string{"201 Created", `"number": 1`}},
		{"call b/Suppliers.read number=1", 0, []string{`"limit": "12.5"`}},
		{
			"call b/Suppliers.list filter=startswith(name,'Het') select=name,limit orderby=name~desc top=5 count=true",
			0,
			[]string{`"@odata.count": 1`, `"name": "Hettie"`},
		},
		{"call b/Suppliers.list filter=nmae~eq~'x'", 2, []string{`did you mean "name"?`}},
		{"call b/Orders.list filter=supplierNumber~eq~1 expand=supplier -pick value[1].note", 0, []string{"second"}},
		{"call b/Suppliers.orders.list number=1 -pick value[0].note", 0, []string{"first"}},
		{"call b/Orders.supplier.read number=2 -pick name", 0, []string{"Hettie"}},
		{"call b/Orders.change number=2 note=changed", 0, []string{"204"}},
		{"call b/Orders.read number=2 -pick note", 0, []string{"changed"}},
		{"call b/Orders.remove number=2", 0, []string{"204"}},
		{"call b/Orders.read number=2", 1, []string{"404", `response from b: "Resource not found: Order[2]"`}},
		{"call b/Orders.count -pick answer", 0, []string{"1"}},
		{
			"call b/Suppliers.create name=12345678901234567890123456789012345678901", 2,
			[]string{"name must have at most 40 characters, and has 41"},
		},
		{
			"call b/Suppliers.create name=12345678901234567890123456789012345678901 -contract answer", 1,
			[]string{"400", "too long (maximum is 40 characters)"},
		},
		{"run batch.yaml", 0, []string{"all: wrong", "alone: supplier"}},
	})
}
