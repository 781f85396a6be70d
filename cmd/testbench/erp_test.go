package main_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// A service is used by its metadata, in both versions, over the same books.
func TestOData(t *testing.T) {
	slow(t)
	t.Parallel()
	p, _ := newBench(t)
	for _, c := range []struct {
		args   []string
		status int
		says   []string
	}{
		{
			[]string{"survey", "ledger"},
			0,
			[]string{
				"Suppliers       list, read, create", "lines.read, lines.create, lines.change",
				"OpenTotal       What the orders come to",
			},
		},
		{
			[]string{"survey", "ledger", "PurchaseOrders.create"},
			0,
			[]string{"quantity      integer\n", "supplierNumber  text, at most 6 characters – Who delivers."},
		},
		{[]string{"survey", "ledger", "-find", "credit"}, 0, []string{"Suppliers.read"}},
		{
			[]string{"draft", "ledger", "Suppliers.create", "-only", "required"},
			0,
			[]string{"{\n  \"name\": \"text\",\n  \"since\": \"2026-11-23\"\n}\n"},
		},
		{[]string{"draft", "older_ledger", "Suppliers.create", "-only", "required"}, 0, []string{`"since": "/Date(`}},
		{[]string{
			"call", "ledger/Suppliers.list", "filter=since gt 2013-01-01 and contains(tolower(city),'heath')",
			"-pick", "value[*].number",
		}, 0, []string{`["S-104","S-105","S-108","S-109"]`}},
		{
			[]string{"call", "ledger/Suppliers.list", "select=number", "-pages", "9", "-pick", "value"},
			0,
			[]string{"S-101", "S-109"},
		},
		{
			[]string{"call", "ledger/Suppliers.list", "-pages", "1", "-pick", "answer.@odata.nextLink"},
			0,
			[]string{"skiptoken=5"},
		},
		{
			[]string{"call", "ledger/Suppliers.list", "filter=nmae eq 'x'"},
			2,
			[]string{`filter names nmae, which Supplier does not have; did you mean "name"?`},
		},
		{
			[]string{"call", "ledger/Suppliers.list", "filter=nmae eq 'x'", "-contract", "answer"},
			1,
			[]string{`response from ledger: "there is no property nmae" (field $filter)`},
		},
		{
			[]string{"call", "ledger/PurchaseOrders.change", "number=PO-9001", "note=first"},
			0,
			[]string{`"note": "first"`, `note: read first for its version: W/"PO-9001-`},
		},
		{
			[]string{"call", "ledger/PurchaseOrders.change", "number=PO-9001", "note=x", "etag=none"},
			1,
			[]string{"428", "the service wants If-Match"},
		},
		{
			[]string{"call", "ledger/PurchaseOrders.change", "number=PO-9001", "note=x", `etag=W/"1"`},
			1,
			[]string{"412", "If-Match names a version that is not the present one"},
		},
		{[]string{"call", "older_ledger/PurchaseOrders.change", "number=PO-9001", "note=second"}, 0, []string{"204"}},
		{[]string{"call", "ledger/PurchaseOrders.read", "number=PO-9001", "-pick", "note"}, 0, []string{"second"}},
		{[]string{
			"call", "older_ledger/PurchaseOrders.read", "number=PO-9001", "expand=lines", "-pick",
			"lines[1].amount",
		}, 0, []string{"11.00"}},
		{
			[]string{"call", "ledger/PurchaseOrders.lines.list", "number=PO-9001", "-pick", "value[1].amount"},
			0,
			[]string{"11.00"},
		},
		{
			[]string{
				"call", "ledger/PurchaseOrders.create", "supplierNumber=S-101", "orderedOn=2026-11-23",
				"lines.0.article=J", "lines.0.quantity=3", "lines.0.price=0.10", "prefer=respond-async", "-pick",
				"total",
			},
			0,
			[]string{"0.30"},
		},
		{
			[]string{
				"call", "ledger/PurchaseOrders.create", "supplierNumber=S-999", "orderedOn=2026-11-23",
				"lines.0.article=J", "lines.0.quantity=0", "lines.0.price=0.1",
			},
			1,
			[]string{`response from ledger: "2 fields are wrong"; "quantity must be a whole number over 0" (field lines[0].quantity); "there is no supplier S-999" (field supplierNumber)`},
		},
		{
			[]string{
				"call", "older_ledger/Suppliers.create", "name=x", "since=2026-11-23",
				"note=" + strings.Repeat("x", 81), "-contract", "answer",
			},
			1,
			[]string{`response from older_ledger: "note may have 80 characters" (field note)`},
		},
		{[]string{
			"call", "older_ledger/PurchaseOrders.list", "filter=orderedOn gt 2026-10-09 and 300 lt total",
			"-pick", "value[*].orderedOn",
		}, 0, []string{`["2026-10-10T00:00:00","2026-10-11T00:00:00"]`}},
		{[]string{
			"call", "ledger/Suppliers.list", "filter=rating eq 'poor'", "search=S-104", "-pick",
			"value[*].number",
		}, 0, []string{`["S-104"]`}},
		{[]string{"call", "older_ledger/OpenTotal", "currency=EUR", "-pick", "value"}, 0, []string{"1484.30"}},
		{[]string{"call", "ledger/OpenTotal", "currency=EUR", "-pick", "value"}, 0, []string{"1484.30"}},
		{[]string{"call", "ledger/PurchaseOrders.remove", "number=PO-9002"}, 0, []string{"204"}},
		{[]string{"call", "ledger/PurchaseOrders.count", "-pick", "answer"}, 0, []string{"7"}},
		{[]string{
			"call", "ledger/PurchaseOrders.lines.change", "number=PO-9003", "position=2", "quantity=10", "-pick",
			"amount",
		}, 0, []string{"1.10"}},
		{[]string{
			"call", "older_ledger/PurchaseOrders.lines.replace", "number=PO-9003", "position=2", "article=LID",
			"quantity=3", "price=0.5",
		}, 0, []string{"204"}},
		{
			[]string{"call", "ledger/PurchaseOrders.lines.replace", "number=PO-9003", "position=2", "article=LID"},
			2,
			[]string{"lines.replace needs quantity, price"},
		},
		{[]string{"call", "ledger/PurchaseOrders.lines.remove", "number=PO-9003", "position=1"}, 0, []string{"204"}},
		{
			[]string{"call", "ledger/PurchaseOrders.lines.read", "number=PO-9003", "position=1"},
			1,
			[]string{"404", "has no line 1"},
		},
		{[]string{
			"call", "ledger/PurchaseOrders.lines.count", "number=PO-9003", "filter=quantity lt 10", "-pick",
			"answer",
		}, 0, []string{"1"}},
		{[]string{"call", "ledger/PurchaseOrders.read", "number=PO-9003", "-pick", "total"}, 0, []string{"1.5"}},
		{[]string{"call", "ledger/PurchaseOrders.Post", "number=PO-9999"}, 1, []string{`(field number)`}},
		{
			[]string{"call", "ledger/PurchaseOrders.change", "number=PO-9001", "note=x", "-dry"},
			0,
			[]string{"If-Match: [the version that is read first]"},
		},
		{
			[]string{"call", "ledger/PurchaseOrders.change", "number=PO-9001", "note=x", "etag=none", "-dry"},
			0,
			[]string{"PATCH"},
		},
		{[]string{"call", "ledger/PurchaseOrders.lst"}, 2, []string{`did you mean "PurchaseOrders.list"?`}},
	} {
		o := p.run(c.args...)
		assert.Equal(t, c.status, o.status, "%s: %s", c.args, o.all())
		for _, says := range c.says {
			all := o.all()
			if strings.Contains(says, "response from ledger") {
				all = strings.Join(strings.Fields(all), " ") // lines are wrapped
			}
			assert.Contains(t, all, says, c.args)
		}
	}
	o := p.run("run", "sheets/08-orders.yaml")
	assert.Equal(t, 0, o.status, o.all())
}

// What leads on is followed only as far as it is safe; an answer that was put off
// ends in time.
func TestODataLeads(t *testing.T) {
	t.Parallel()
	const metadata = `<edmx:Edmx Version="4.0" xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx"><edmx:DataServices><Schema Namespace="L" xmlns="http://docs.oasis-open.org/odata/ns/edm">
<EntityType Name="T"><Key><PropertyRef Name="id"/></Key><Property Name="id" Type="Edm.Int32" Nullable="false"/></EntityType>
<EntityContainer Name="C"><EntitySet Name="Same" EntityType="L.T"/><EntitySet Name="Other" EntityType="L.T"/><EntitySet Name="Broken" EntityType="L.T"/><EntitySet Name="Wrong" EntityType="L.T"/></EntityContainer></Schema></edmx:DataServices></edmx:Edmx>`
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {
		t.Error("another host was asked")
	}))
	defer other.Close()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		next := map[string]string{"/Same": "Same?again", "/Other": other.URL + "/Other", "/Broken": "gone"}[r.URL.Path]
		switch {
		case r.URL.Path == "/$metadata":
			w.Header().Set("Content-Type", "application/xml")
			fmt.Fprint(w, metadata)
		case r.URL.Path == "/Wrong":
			w.Header().Set("Content-Type", "text/html")
			fmt.Fprint(w, "<html><h1>Maintenance</h1></html>")
		case next == "":
			w.WriteHeader(404)
			fmt.Fprint(w, `"there is nothing"`)
		case r.Header.Get("Prefer") != "":
			w.Header().Set("Location", other.URL+"/monitor")
			w.WriteHeader(202)
		default:
			fmt.Fprintf(w, `{"value": [{"id": 1}], "@odata.nextLink": %q}`, next)
		}
	}))
	defer server.Close()
	p := newPlace(t)
	p.write("bench.yaml", "bench: t\nsites:\n  local:\n    set:\n      base: "+server.URL+
		"\nservices:\n  l: ${base}/$metadata\n  gone: ${base}/none\n")
	for _, c := range []struct {
		args   string
		status int
		says   string
	}{
		{"call gone/x", 3, "the contract of gone: "},
		{"call gone/x", 3, "404"},
		{"call l/Same.list -pages 9", 0, "go round in a circle"},
		{"call l/Same.list -pages 9", 0, `"id": 1`},
		{"call l/Other.list -pages 9", 0, "which is another host and not asked"},
		{"call l/Broken.list -pages 9", 1, `response from l: "there is nothing"`},
		{"call l/Other.list prefer=respond-async", 0, "which is another host and not asked"},
		{"call l/Wrong.list", 1, "the content type text/html is not described for 2XX; described are application/json"},
		{"call l/Same.list -pages 1", 0, "nextLink"},
		{"call l/Same.list -pages 0", 2, "-pages 0 is not a number of pages"},
	} {
		o := p.run(strings.Fields(c.args)...)
		assert.Equal(t, c.status, o.status, "%s: %s", c.args, o.all())
		assert.Contains(t, strings.Join(strings.Fields(o.all()), " "), c.says, c.args)
	}
}

const batchSheet = `sheet: b
steps:
  - step: all
    batch: ledger
    parts:
      - step: suppliers
        call: ledger/Suppliers.list
        fill:
          top: 1
        fields:
          value: count 1
      - step: order
        call: ledger/PurchaseOrders.create
        fill:
          supplierNumber: S-101
          orderedOn: 2026-11-23
        keep:
          order: reply.headers.Location
          number: number
        expect:
          status: 201
      - step: line
        follow: ${order}/lines
        service: ledger
        body:
          article: JAR
          quantity: 3
          price: 0.5
        expect:
          status: 201
      - step: nobody
        call: ledger/Suppliers.read
        fill:
          number: S-999
        expect:
          status: 404
  - step: total
    call: ledger/PurchaseOrders.read
    fill:
      number: ${number}
    fields:
      total: 1.50
  - step: json
    batch: ledger
    as: json
    together: true
    parts:
      - step: order
        call: ledger/PurchaseOrders.create
        fill:
          supplierNumber: S-101
          orderedOn: 2026-11-23
        keep:
          place: answer.@odata.id
        expect:
          status: 201
      - step: line
        follow: ${place}/lines
        service: ledger
        body:
          article: JAR
          quantity: 3
          price: 0.5
        expect:
          status: 201
  - step: older
    batch: older_ledger
    parts:
      - step: list
        call: older_ledger/Suppliers.list
        fill:
          top: 1
        fields:
          value[0].creditLimit: 1000.50
      - step: change
        call: older_ledger/PurchaseOrders.change
        fill:
          number: PO-9003
          note: in a batch
          etag: "*"
  - step: undone
    batch: ledger
    together: true
    parts:
      - step: order
        call: ledger/PurchaseOrders.create
        fill:
          supplierNumber: S-101
          orderedOn: 2026-11-23
        expect:
          status: 422
      - step: order of nobody
        call: ledger/PurchaseOrders.create
        fill:
          supplierNumber: S-999
          orderedOn: 2026-11-23
        expect:
          status: 422
  - step: as before
    call: ledger/PurchaseOrders.count
    fields:
      answer: 9
`

// Several requests go as one, in both forms and both versions; a later one uses
// what an earlier one makes.
func TestODataBatch(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	o := p.sheet(batchSheet)
	assert.Equal(t, 0, o.status, o.all())
	for _, says := range []string{
		"all: nobody    ledger/Suppliers.read                404",
		"json: line      follow ${place}/lines                201",
		"older: change  older_ledger/PurchaseOrders.change   204",
		"undone: order ledger/PurchaseOrders.create 422", "undone: order of nobody ledger/PurchaseOrders.create 422",
		"as before",
	} {
		assert.Contains(t, strings.Join(strings.Fields(o.all()), " "), strings.Join(strings.Fields(says), " "))
	}
	o = p.run("run", "sheets/test.yaml", "-dry")
	assert.Contains(t, o.all(), "/ledger/$batch")
	for text, says := range map[string]string{
		`  - step: a
    batch: ledgr
    parts:
      - step: x
        call: ledger/Suppliers.list
`: `did you mean "ledger"?`,
		`  - step: a
    batch: stores
    parts:
      - step: x
        call: stores/search
`: "a batch is a thing of OData",
		`  - step: a
    batch: ledger
    parts:
      - step: x
        call: stores/search
`: `and its part x is for "stores"`,
		`  - step: a
    batch: ledger
    parts:
      - step: x
        set:
          a: b
`: "a part of a batch is a call",
		"  - step: a\n    batch: ledger\n": "the batch has no parts",
		`  - step: a
    call: ledger/Suppliers.list
    together: true
`: "goes with batch",
		`  - step: a
    batch: ledger
    parts:
      - step: x
        call: ledger/Suppliers.lst
`: `did you mean "Suppliers.list"?`,
		`  - step: a
    batch: ledger
    parts:
      - step: x
        call: ledger/Suppliers.list
        fill:
          topp: 1
`: `did you mean "top"?`,
	} {
		o = p.sheet("sheet: t\nsteps:\n" + text)
		assert.Equal(t, 2, o.status, o.all())
		assert.Contains(t, o.all(), says, text)
	}
}
