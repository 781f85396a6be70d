package odata_test

import (
	"fmt"
	"net/http"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/contract"
	"testbench/internal/contract/odata"
	"testbench/internal/document"
	"testbench/internal/schema"
)

func readXML(t testing.TB, text string) *odata.Contract {
	t.Helper()
	root, err := document.ReadXML([]byte(text), "")
	require.NoError(t, err)
	c, err := odata.ReadXML("metadata.xml", root)
	require.NoError(t, err)
	return c
}

func readFile(t testing.TB, name string) *odata.Contract {
	t.Helper()
	data, err := os.ReadFile("../../standin/demo/bench/contracts/" + name)
	require.NoError(t, err)
	return readXML(t, string(data))
}

func operation(t *testing.T, c *odata.Contract, name string) *contract.Endpoint {
	t.Helper()
	op, err := c.Operation(name)
	require.NoError(t, err)
	require.NotNil(t, op, name)
	return op
}

// hall has what the ledger has not: derived and open types, keys of several parts,
// singletons, definitions, flags, functions with values of all kinds.
const hall = `<edmx:Edmx Version="4.01" xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx"><edmx:DataServices>
<Schema Namespace="Hall" Alias="H" xmlns="http://docs.oasis-open.org/odata/ns/edm">
 <TypeDefinition Name="Weight" UnderlyingType="Edm.Decimal" Precision="5" Scale="1"/>
 <EnumType Name="Tools" IsFlags="true"><Member Name="press" Value="1"/><Member Name="sieve" Value="2"/></EnumType>
 <EntityType Name="Thing" Abstract="true"><Key><PropertyRef Name="Hall"/><PropertyRef Name="Id"/></Key>
  <Property Name="Hall" Type="Edm.String" Nullable="false" MaxLength="4"/><Property Name="Id" Type="Edm.Guid" Nullable="false"/></EntityType>
 <EntityType Name="Press" BaseType="H.Thing" OpenType="true">
  <Property Name="Load" Type="H.Weight"/><Property Name="Tools" Type="H.Tools"/><Property Name="Built" Type="Edm.DateTimeOffset" Precision="0" Nullable="false"/>
  <Property Name="Runs" Type="Collection(Edm.Int16)" Nullable="false"/><Property Name="Places" Type="Edm.GeographyPoint"/><Property Name="Sum" Type="Edm.Int64"/><Property Name="Stay" Type="Edm.Duration"/>
  <Property Name="Open" Type="Edm.TimeOfDay"/><Property Name="Seal" Type="Edm.Binary"/><Property Name="Small" Type="Edm.SByte"/></EntityType>
 <ComplexType Name="Span"><Property Name="From" Type="Edm.Date" Nullable="false"/><Property Name="To" Type="Edm.Date"/></ComplexType>
 <Action Name="Clean" IsBound="true"><Parameter Name="all" Type="Collection(H.Press)"/><Parameter Name="span" Type="H.Span" Nullable="false"/><Parameter Name="deep" Type="Edm.Boolean"/></Action>
 <Function Name="Free" IsBound="true"><Parameter Name="one" Type="H.Press"/><Parameter Name="on" Type="Edm.Date" Nullable="false"/><Parameter Name="word" Type="Edm.String"/><Parameter Name="span" Type="H.Span"/><ReturnType Type="Collection(Edm.Int32)"/></Function>
 <Function Name="Now"><ReturnType Type="Edm.DateTimeOffset"/></Function>
 <EntityContainer Name="C"><EntitySet Name="Presses" EntityType="H.Press"/><Singleton Name="Main" Type="H.Press"/><FunctionImport Name="Now" Function="H.Now"/>
  <EntitySet Name="Closed" EntityType="H.Press"/><EntitySet Name="Lost" EntityType="H.Gone"/></EntityContainer>
 <Annotations Target="H.C/Closed"><Annotation Term="Org.OData.Capabilities.V1.InsertRestrictions"><Record><PropertyValue Property="Insertable" Bool="false"/></Record></Annotation>
  <Annotation Term="Org.OData.Capabilities.V1.FilterRestrictions"><Record><PropertyValue Property="RequiredProperties"><Collection><PropertyPath>Hall</PropertyPath></Collection></PropertyValue></Record></Annotation>
  <Annotation Term="Org.OData.Capabilities.V1.DeleteRestrictions"><Record><PropertyValue Property="Deletable" Bool="false"/></Record></Annotation></Annotations>
 <Annotations Target="H.Press/Sum"><Annotation Term="Org.OData.Core.V1.Computed"/><Annotation Term="Org.OData.Core.V1.Description" String="All runs."/></Annotations>
</Schema></edmx:DataServices></edmx:Edmx>`

func written(r *contract.Request) string {
	line := r.Method + " " + r.Path
	for i, p := range r.Query {
		line += map[bool]string{true: "?", false: "&"}[i == 0] + p.Text()
	}
	for _, h := range r.Headers {
		if !strings.HasSuffix(h.Name, "Version") {
			line += " | " + h.Name + ": " + h.Value.Text
		}
	}
	if r.Body != nil {
		line += " " + document.WriteJSON(r.Body, document.Style{})
	}
	return line
}

// Calls are built by the metadata in both versions: keys and literals by their
// type, options by their names, bodies with what may be given.
func TestBuild(t *testing.T) {
	contracts := map[string]*odata.Contract{
		"4": readFile(t, "ledger.xml"), "2": readFile(t, "ledger-2.xml"),
		"hall": readXML(t, hall),
	}
	const id = "3f2c1a90-6b7d-4e58-9c01-2d3e4f506172"
	for _, c := range []struct{ contract, name, give, want, problems string }{
		{
			"4", "Suppliers.read", "number: O'Dea/1", "GET /Suppliers('O''Dea%2F1')",
			`number must have at most 6 characters, and has 7`,
		},
		{
			"4", "Suppliers.list",
			"filter: name eq 'a b'\ntop: 5\nselect: [name, city]\norderby: name desc,city\ncount: true\nsearch: x",
			"GET /Suppliers?$filter=name%20eq%20%27a%20b%27&$search=x&$select=name%2Ccity&$orderby=name%20desc%2Ccity&$top=5&$count=true", "",
		},
		{
			"2", "Suppliers.list", "filter: substringof('a', name)\ncount: true\nexpand: orders/lines",
			"GET /Suppliers?$filter=substringof%28%27a%27%2C%20name%29&$expand=orders%2Flines&$inlinecount=allpages",
			"",
		},
		{
			"2", "PurchaseOrders.list",
			"filter: orderedOn gt 2026-11-01 and 100 lt total and changedAt ge 2026-11-23T08:00:00Z and note eq null and length(note) gt 2", "GET /PurchaseOrders?$filter=orderedOn%20gt%20datetime%272026-11-01T00%3A00%3A00%27%20and%20100M%20lt%20total%20and%20changedAt%20ge%20datetimeoffset%272026-11-23T08%3A00%3A00Z%27%20and%20note%20eq%20null%20and%20length%28note%29%20gt%202", "",
		},
		{
			"2", "PurchaseOrders.list", "filter: orderedOn gt datetime'2026-11-01T00:00:00' and total gt 1.5M",
			"GET /PurchaseOrders?$filter=orderedOn%20gt%20datetime%272026-11-01T00%3A00%3A00%27%20and%20total%20gt%201.5M", "",
		},
		{
			"4", "Suppliers.list", "filter: rating eq 'good' and since gt 2013-01-01 and creditLimit gt 5",
			"GET /Suppliers?$filter=rating%20eq%20Heatherfold.Ledger.Rating%27good%27%20and%20since%20gt%202013-01-01%20and%20creditLimit%20gt%205", "",
		},
		{
			"4", "Suppliers.list", "filter: rating eq Heatherfold.Ledger.Rating'good'",
			"GET /Suppliers?$filter=rating%20eq%20Heatherfold.Ledger.Rating%27good%27", "",
		},
		{
			"4", "Suppliers.list", "expand: orders($select=numbr;$filter=total gt 'x';$tip=1),name,lines", "",
			`expand has "$tip=1" in the parentheses of orders, which is not an option there, expand names numbr, which PurchaseOrder does not have; did you mean "number"?, expand compares total, which is decimal number, with the text 'x'; take the quotes away, expand names name, which is part of the entity and leads nowhere, expand names lines, which Supplier does not have; there are: number, name, city, since, rating, creditLimit, active, note and 1 more`,
		},
		{
			"4", "PurchaseOrders.create",
			"supplierNumber: S-1\norderedOn: 2026-11-23\nlines:\n  - {article: JAR, quantity: 2, price: 1.50}",
			`POST /PurchaseOrders {"supplierNumber":"S-1","orderedOn":"2026-11-23","lines":[{"article":"JAR","quantity":2,"price":1.50}]}`, "",
		},
		{
			"4", "PurchaseOrders.create",
			`orderedOn: 2026-02-30
total: 5
lines:
  - {article: null, quantity: 2.5, prise: 1}
supplier@odata.bind: Suppliers('S-1')`, "", `orderedOn is not a day that there is: "2026-02-30", total is set by the service, lines[0].article cannot be null, lines[0].quantity must be a whole number, and is 2.5, lines[0].prise is unknown; did you mean "price"?, lines[0].price is missing, supplierNumber is missing`,
		},
		{
			"4", "PurchaseOrders.change", "number: PO-1\nnote: x\netag: '*'",
			`PATCH /PurchaseOrders('PO-1') | If-Match: * {"note":"x"}`, "",
		},
		{"4", "PurchaseOrders.replace", "number: PO-1\nnote: x", "", "supplierNumber is missing, orderedOn is missing"},
		{"4", "PurchaseOrders.remove", "number: PO-1", "DELETE /PurchaseOrders('PO-1')", ""},
		{
			"4", "PurchaseOrders.lines.create", "number: PO-1\narticle: LID\nquantity: 1\nprice: 0.5",
			`POST /PurchaseOrders('PO-1')/lines {"article":"LID","quantity":1,"price":0.5}`, "",
		},
		{
			"4", "PurchaseOrders.Post", "number: PO-1\non: 2026-11-23",
			`POST /PurchaseOrders('PO-1')/Heatherfold.Ledger.Post {"on":"2026-11-23"}`, "",
		},
		{"4", "OpenTotal", "currency: EUR", "GET /OpenTotal(currency='EUR')", ""},
		{"2", "OpenTotal", "currency: EUR", "GET /OpenTotal?currency=%27EUR%27", ""},
		{"2", "Post", "number: PO-1", "POST /Post?number=%27PO-1%27", ""},
		{
			"2", "PurchaseOrders.change", "number: PO-1\norderedOn: 2026-11-23",
			`MERGE /PurchaseOrders('PO-1') {"orderedOn":"/Date(1795392000000)/"}`, "",
		},
		{
			"2", "PurchaseOrders.create",
			"supplierNumber: S-1\norderedOn: 2026-11-23T10:00:00\nlines:\n  - {article: JAR, quantity: 2, price: 1.50}",
			`POST /PurchaseOrders {"supplierNumber":"S-1","orderedOn":"/Date(1795428000000)/","lines":[{"article":"JAR","quantity":2,"price":"1.50"}]}`, "",
		},
		{"hall", "Presses.read", "Hall: A\nId: " + id, "GET /Presses(Hall='A',Id=" + id + ")", ""},
		{"hall", "Presses.read", "Hall: A\nId: seven", "", `Id must be a GUID, and is "seven"`},
		{
			"hall", "Presses.create",
			"Hall: A\nId: " + id + `
Load: 1.25
Tools: press,siev
Built: 2026-11-23T08:00:00.5Z
Runs: [1, 40000]
Sum: 3
Stay: 1 day
Open: 25:00
Seal: '?'
Small: 128
Other: x`, "",
			`Load must have at most 1 digits after the point, and is 1.25, Tools must be one of press, sieve, and is "press,siev"; did you mean "sieve"?, Built must have at most 0 digits of a second, and is "2026-11-23T08:00:00.5Z", Runs[1] is out of the range of Int16: 40000, Sum is set by the service, Stay must be a duration (P1DT2H), and is "1 day", Open must be a time (08:00:00), and is "25:00", Seal must be Base64, and is "?", Small is out of the range of SByte: 128`,
		},
		{
			"hall", "Presses.Clean", "span: {From: 2026-11-23}\ndeep: true",
			`POST /Presses/Hall.Clean {"span":{"From":"2026-11-23"},"deep":true}`, "",
		},
		{"hall", "Presses.Clean", "deep: yes", "", `deep must be true or false, and is "yes", span is missing`},
		{
			"hall", "Presses.Free", "Hall: A\nId: " + id + "\non: 2026-11-23\nword: a'b\nspan: {From: 2026-11-23}",
			"GET /Presses(Hall='A',Id=" + id +
				")/Hall.Free(on=2026-11-23,word='a''b',span=@span)?%40span=%7B%22From%22%3A%222026-11-23%22%7D", "",
		},
		{"hall", "Main.read", "", "GET /Main", ""},
		{"hall", "Now", "", "GET /Now()", ""},
		{"hall", "Closed.list", "filter: Load gt 1", "", "filter must name Hall"},
		{
			"hall", "Presses.list",
			"filter: Anything eq 5 and Runs/any(r:r gt 5) and Hall.Press/Load add 2 gt 5 and Tools has Hall.Tools'press' and not (Built lt 2026-11-23T08:00:00Z)", "GET /Presses?$filter=Anything%20eq%205%20and%20Runs%2Fany%28r%3Ar%20gt%205%29%20and%20Hall.Press%2FLoad%20add%202%20gt%205%20and%20Tools%20has%20Hall.Tools%27press%27%20and%20not%20%28Built%20lt%202026-11-23T08%3A00%3A00Z%29", "",
		},
	} {
		op := operation(t, contracts[c.contract], c.name)
		give := document.NewObject()
		if c.give != "" {
			var err error
			give, err = document.ReadYAML([]byte(c.give))
			require.NoError(t, err)
		}
		built, problems := op.Build(give, contract.BuildOptions{})
		var words []string
		for _, p := range problems {
			words = append(words, p.String())
		}
		assert.Equal(t, c.problems, strings.Join(words, ", "), "%s %s", c.name, c.give)
		if c.want != "" {
			assert.Equal(t, c.want, written(built))
		}
	}
	assert.Contains(t, contracts["hall"].Head().Notes[0], "the set Lost is of the type H.Gone")
	names := strings.Join(contracts["hall"].Names(), " ")
	assert.NotContains(t, names, "Closed.create")
	assert.NotContains(t, names, "Closed.remove")
	assert.True(t, operation(t, contracts["4"], "Suppliers.change").Versioned)
	assert.False(t, operation(t, contracts["hall"], "Presses.change").Versioned)
}

// Each way in which a query option can be wrong is told before anything is sent.
func TestOptionsRefused(t *testing.T) {
	contracts := map[string]*odata.Contract{
		"4": readFile(t, "ledger.xml"), "2": readFile(t, "ledger-2.xml"),
		"hall": readXML(t, hall),
	}
	for _, c := range []struct{ contract, option, text, want string }{
		{"4", "filter", "nme eq 'x'", `filter names nme, which Supplier does not have; did you mean "name"?`},
		{"4", "filter", "name = 'x'", "filter has = where eq is meant"},
		{"4", "filter", "name == 'x'", "filter has = where eq is meant"},
		{"4", "filter", "name equals 'x'", "equals"},
		{"4", "filter", "(name eq 'x'", "filter opens a parenthesis that is not closed"},
		{"4", "filter", "name eq 'x')", "filter closes a parenthesis that was not opened"},
		{"4", "filter", "name eq 'x", "filter opens a text that is not closed"},
		{"4", "filter", "name eq ~x", "filter cannot be read from"},
		{"4", "filter", "name eq 5", "filter compares name, which is text, with the number 5; write '5'"},
		{
			"4", "filter", "since eq '2026-11-23'",
			"filter compares since, which is a date, with the text '2026-11-23'; take the quotes away",
		},
		{
			"4", "filter", "creditLimit eq '5'",
			"filter compares creditLimit, which is decimal number, with the text '5'; take the quotes away",
		},
		{"4", "filter", "rating eq 'god'", `did you mean "good"?`},
		{"4", "filter", "nonsense(name)", "nonsense"},
		{"4", "filter", "orders/any(o:o/totl gt 5)", `did you mean "total"?`},
		{"4", "filter", "'x' eq creditLimit", "filter compares creditLimit, which is decimal number, with the text 'x'"},
		{"4", "filter", "creditLimit in (5,'6')", "filter compares creditLimit, which is decimal number, with the text '6'"},
		{"4", "filter", "creditLimit in (5, 6) and name in ('a','b')", ""},
		{"4", "filter", "since lt 2026-13-45", "filter compares since with 2026-13-45, which must be a date (2026-11-23), and is \"2026-13-45\""},
		{"4", "filter", "since lt 2026-02-30", "filter compares since with 2026-02-30, which is not a day that there is"},
		{"4", "filter", "since lt 2026-02-27T10:00:00Z", "must be a date"},
		{"4", "filter", "active eq 1 and not active", "filter compares active, which is true or false, with 1"},
		{"4", "filter", "5 lt creditLimit and since gt now()", ""},
		{"4", "orderby", "nme", `orderby names nme, which Supplier does not have; did you mean "name"?`},
		{"4", "orderby", "name up", "orderby has up after name; asc and desc are there"},
		{"4", "orderby", "name,", "orderby has an empty name"},
		{"4", "orderby", "length(nme) desc", `did you mean "name"?`},
		{"4", "orderby", "length(name) desc", ""},
		{"4", "select", "name,,city", "select has an empty name"},
		{"4", "select", "cty", `select names cty, which Supplier does not have; did you mean "city"?`},
		{"4", "expand", "ordrs", `did you mean "orders"?`},
		{"4", "expand", ",orders", "expand has an empty name"},
		{"4", "expand", "*", ""},
		{"4", "expand", "orders(top=1)", ""},
		{"4", "expand", "orders($levels=2)", ""},
		{"4", "top", "-1", "top"},
		{"4", "top", "five", "top"},
		{"4", "skip", "1.5", "skip"},
		{"4", "count", "perhaps", "count"},
		{"2", "expand", "orders($top=1)", "expand has \"($top=1)\", which is not allowed there"},
		{"2", "filter", "since eq '2026-11-23'", "filter compares since"},
		{"2", "filter", "contains(name, 'a')", "contains"},
		{"2", "select", "orders/total", ""},
		{"hall", "filter", "Built lt '2026-11-23T08:00:00Z'", "filter compares Built"},
		{"hall", "filter", "Id eq 'x'", "filter compares Id"},
	} {
		name := map[string]string{"hall": "Presses.list"}[c.contract]
		if name == "" {
			name = "Suppliers.list"
		}
		_, problems := operation(t, contracts[c.contract], name).Build(document.NewObject().Set(c.option,
			document.NewUntyped(c.text)), contract.BuildOptions{})
		var words []string
		for _, p := range problems {
			words = append(words, p.Message)
		}
		if c.want == "" {
			assert.Empty(t, words, "%s %s", c.option, c.text)
		} else {
			assert.Contains(t, strings.Join(words, ", "), c.want, "%s %s", c.option, c.text)
		}
	}
}

// Answers are checked against the metadata; those of 2.0 are seen as those of 4.
func TestAnswers(t *testing.T) {
	four, two := readFile(t, "ledger.xml"), readFile(t, "ledger-2.xml")
	for _, c := range []struct {
		contract   *odata.Contract
		name, body string
		want, seen string
	}{
		{
			four, "PurchaseOrders.read",
			`{"@odata.context": "x", "number": "PO-1", "total": 5.50, "state": "draft", "lines": [{"position": 1, "price": "1.25"}], "supplier": null}`, "", "",
		},
		{
			four, "PurchaseOrders.read",
			`{"number": null, "total": 1.555, "state": "lost", "colour": 1, "lines": [{"quantity": 3000000000}, 5], "changedAt": "2026-11-23", "note": "` + strings.Repeat("x", 41) + `"}`,
			`number is null, and cannot be; total must have at most 2 digits after the point, and is 1.555; state must be one of draft, posted, and is "lost"; colour is not in the metadata of PurchaseOrder; lines[0].quantity is out of the range of Int32: 3000000000; lines[1] must be an object, and is 5; changedAt must be a time stamp with a zone (2026-11-23T08:00:00Z), and is "2026-11-23"; note must have at most 40 characters, and has 41`, "",
		},
		{
			four, "Suppliers.list", `{"value": [{"number": "S-1", "active": "yes"}]}`,
			`value[0].active must be true or false, and is "yes"`, "",
		},
		{four, "Suppliers.list", `{"values": []}`, "the body has no member value, which holds what was asked for", ""},
		{four, "OpenTotal", `{"value": "x"}`, `value must be a decimal number, and is "x"`, ""},
		{
			two, "PurchaseOrders.read",
			`{"d": {"__metadata": {"uri": "u", "type": "Heatherfold.Ledger.PurchaseOrder", "etag": "W/\"1\""}, "number": "PO-1", "orderedOn": "/Date(1795392000000)/", "changedAt": "/Date(1795392000000+0060)/", "total": "5.50", "lines": {"results": [{"price": "1.25"}]}, "supplier": {"__deferred": {"uri": "s"}}}}`,
			"", `{"@odata.id":"u","@odata.type":"#Heatherfold.Ledger.PurchaseOrder","@odata.etag":"W/\"1\"","number":"PO-1","orderedOn":"2026-11-23T00:00:00","changedAt":"2026-11-23T01:00:00+01:00","total":5.50,"lines":[{"price":1.25}],"supplier@odata.navigationLink":"s"}`,
		},
		{
			two, "Suppliers.list", `{"d": {"results": [{"creditLimit": "x"}], "__count": "9", "__next": "n"}}`,
			`value[0].creditLimit must be a decimal number, and is "x"`,
			`{"@odata.count":9,"value":[{"creditLimit":"x"}],"@odata.nextLink":"n"}`,
		},
		{two, "Suppliers.list", `{"d": [{"number": "S-1"}]}`, "", `{"value":[{"number":"S-1"}]}`},
		{two, "OpenTotal", `{"d": {"OpenTotal": "5.50"}}`, "", `{"value":5.50}`},
		{
			two, "Suppliers.read", `{"error": {"code": "x"}}`, "error is not in the metadata of Supplier",
			`{"error":{"code":"x"}}`,
		},
	} {
		op := operation(t, c.contract, c.name)
		body, err := document.ReadJSON([]byte(c.body))
		require.NoError(t, err)
		if op.DecodeAnswer != nil {
			body = op.Decode(body)
			assert.Equal(t, c.seen, document.WriteJSON(body, document.Style{}))
		}
		assert.Equal(t, c.want,
			strings.Join(op.Judge(contract.Got{
				Status: 200,
				Header: http.Header{"Content-Type": {"application/json;odata.metadata=minimal"}}, Body: body,
			}).Wrong,
				"; "), c.body)
	}
}

// Metadata in JSON says the same as in XML.
func TestJSON(t *testing.T) {
	const text = `{"$Version": "4.01", "$EntityContainer": "H.C", "$Reference": {"u": {"$Include": [{"$Namespace": "Org.OData.Core.V1", "$Alias": "Core"}]}},
	 "H": {"$Alias": "Self",
	  "Kind": {"$Kind": "EnumType", "press": 0, "sieve": 1, "press@Core.Description": "x"},
	  "Weight": {"$Kind": "TypeDefinition", "$UnderlyingType": "Edm.Decimal", "$Scale": 1},
	  "Press": {"$Kind": "EntityType", "$Key": ["Id"], "Id": {"$Type": "Edm.Int32", "@Core.Computed": true}, "Name": {"$MaxLength": 3, "@Core.Description": "what it is called"}, "Kind": {"$Type": "Self.Kind", "$Nullable": true}, "Load": {"$Type": "Self.Weight", "$Nullable": true},
	   "Parts": {"$Kind": "NavigationProperty", "$Collection": true, "$Type": "Self.Press", "$ContainsTarget": true}},
	  "Clean": [{"$Kind": "Action", "$IsBound": true, "$Parameter": [{"$Name": "p", "$Type": "Self.Press"}, {"$Name": "deep", "$Type": "Edm.Boolean"}]}],
	  "Count": [{"$Kind": "Function", "$ReturnType": {"$Type": "Edm.Int32"}}],
	  "C": {"$Kind": "EntityContainer", "Presses": {"$Collection": true, "$Type": "Self.Press"}, "Main": {"$Type": "Self.Press"}, "Count": {"$Function": "H.Count"},
	   "Presses@Core.OptimisticConcurrency": []},
	  "$Annotations": {"H.C/Presses": {"@Org.OData.Capabilities.V1.DeleteRestrictions": {"Deletable": false}}}}}`
	root, err := document.ReadJSON([]byte(text))
	require.NoError(t, err)
	require.True(t, odata.IsJSON(root))
	c, err := odata.ReadJSON("m.json", root)
	require.NoError(t, err)
	assert.Equal(t, "Presses.list Presses.read Presses.create Presses.change Presses.replace Presses.count Presses.Parts.list Presses.Parts.read Presses.Parts.create Presses.Parts.change Presses.Parts.replace Presses.Parts.remove Presses.Parts.count Presses.Clean Main.read Main.change Main.Clean Main.Parts.list Main.Parts.read Main.Parts.create Main.Parts.change Main.Parts.replace Main.Parts.remove Main.Parts.count Count", strings.Join(c.Names(), " "))
	_, problems := operation(t, c,
		"Presses.create").Build(document.NewObject().Set("Name", document.NewUntyped("long")).Set("Kind",
		document.NewUntyped("pres")).Set("Load", document.NewUntyped("1.55")), contract.BuildOptions{})
	assert.Equal(t, `[Name must have at most 3 characters, and has 4 Kind must be one of press, sieve, and is "pres"; did you mean "press"? Load must have at most 1 digits after the point, and is 1.55]`, fmt.Sprint(problems))
}

// What is drafted passes against the metadata.
func TestDrafts(t *testing.T) {
	for _, c := range []*odata.Contract{readFile(t, "ledger.xml"), readFile(t, "ledger-2.xml"), readXML(t, hall)} {
		for _, name := range c.Names() {
			op := operation(t, c, name)
			for _, o := range []schema.SampleOptions{{}, {Optional: true}} {
				if strings.HasPrefix(name, "Closed.list") || strings.HasPrefix(name, "Closed.count") {
					continue // what its filter must name, no draft can know
				}
				_, problems := op.Build(op.SampleFields(o), contract.BuildOptions{})
				assert.Empty(t, problems, name)
				for _, a := range op.Answers {
					for _, content := range a.Contents {
						if content.Schema != nil {
							assert.Empty(t, content.Schema.Check(content.Schema.Sample(o).Root), name)
						}
					}
				}
			}
		}
	}
}

// What is created together knows the key of what it is created with, and a number
// that is a key may be left to the service.
func TestDeepInsert(t *testing.T) {
	const four = `<edmx:Edmx Version="4.0" xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx"><edmx:DataServices><Schema Namespace="D" xmlns="http://docs.oasis-open.org/odata/ns/edm">
 <EntityType Name="Order"><Key><PropertyRef Name="id"/></Key><Property Name="id" Type="Edm.Int32" Nullable="false"/><NavigationProperty Name="lines" Type="Collection(D.Line)" Partner="order"/></EntityType>
 <EntityType Name="Line"><Key><PropertyRef Name="orderId"/><PropertyRef Name="position"/></Key><Property Name="orderId" Type="Edm.Int32" Nullable="false"/><Property Name="position" Type="Edm.Int32" Nullable="false"/>
  <NavigationProperty Name="order" Type="D.Order" Partner="lines"><ReferentialConstraint Property="orderId" ReferencedProperty="id"/></NavigationProperty></EntityType>
 <EntityContainer Name="C"><EntitySet Name="Orders" EntityType="D.Order"/><EntitySet Name="Lines" EntityType="D.Line"/></EntityContainer></Schema></edmx:DataServices></edmx:Edmx>`
	const two = `<edmx:Edmx Version="1.0" xmlns:edmx="http://schemas.microsoft.com/ado/2007/06/edmx"><edmx:DataServices><Schema Namespace="D" xmlns="http://schemas.microsoft.com/ado/2008/09/edm">
 <EntityType Name="Order"><Key><PropertyRef Name="id"/></Key><Property Name="id" Type="Edm.Int32" Nullable="false"/><NavigationProperty Name="lines" Relationship="D.A" FromRole="o" ToRole="l"/></EntityType>
 <EntityType Name="Line"><Key><PropertyRef Name="orderId"/><PropertyRef Name="position"/></Key><Property Name="orderId" Type="Edm.Int32" Nullable="false"/><Property Name="position" Type="Edm.Int32" Nullable="false"/></EntityType>
 <Association Name="A"><End Role="o" Type="D.Order" Multiplicity="1"/><End Role="l" Type="D.Line" Multiplicity="*"/>
  <ReferentialConstraint><Principal Role="o"><PropertyRef Name="id"/></Principal><Dependent Role="l"><PropertyRef Name="orderId"/></Dependent></ReferentialConstraint></Association>
 <EntityContainer Name="C"><EntitySet Name="Orders" EntityType="D.Order"/><EntitySet Name="Lines" EntityType="D.Line"/></EntityContainer></Schema></edmx:DataServices></edmx:Edmx>`
	const inJSON = `{"$Version": "4.01", "$EntityContainer": "D.C", "D": {
 "Order": {"$Kind": "EntityType", "$Key": ["id"], "id": {"$Type": "Edm.Int32"}, "lines": {"$Kind": "NavigationProperty", "$Collection": true, "$Type": "D.Line", "$Partner": "order"}},
 "Line": {"$Kind": "EntityType", "$Key": ["orderId", "position"], "orderId": {"$Type": "Edm.Int32"}, "position": {"$Type": "Edm.Int32"},
  "order": {"$Kind": "NavigationProperty", "$Type": "D.Order", "$Partner": "lines", "$ReferentialConstraint": {"orderId": "id"}}},
 "C": {"$Kind": "EntityContainer", "Orders": {"$Collection": true, "$Type": "D.Order"}, "Lines": {"$Collection": true, "$Type": "D.Line"}}}}`
	root, err := document.ReadJSON([]byte(inJSON))
	require.NoError(t, err)
	third, err := odata.ReadJSON("m.json", root)
	require.NoError(t, err)
	for _, c := range []*odata.Contract{readXML(t, four), readXML(t, two), third} {
		for _, k := range []struct{ operation, fields, wrong string }{
			{"Orders.create", `{"lines": [{"position": 1}]}`, ""},
			{"Orders.create", `{"lines": [{"orderId": 4}]}`, "lines[0].position is missing"},
			{"Lines.create", `{"position": 1}`, "orderId is missing"},
		} {
			fields, err := document.ReadJSON([]byte(k.fields))
			require.NoError(t, err)
			_, problems := operation(t, c, k.operation).Build(fields, contract.BuildOptions{})
			var said []string
			for _, p := range problems {
				said = append(said, p.String())
			}
			assert.Equal(t, k.wrong, strings.Join(said, "; "), "%s %s %s", c.Head().Format, k.operation, k.fields)
		}
		assert.NotContains(t, c.Names(), "Orders.lines.change", "lines have a set of their own")
	}
}

// large is metadata of so many sets, of the size that large ERPs have.
func large(sets int) string {
	var out strings.Builder
	out.WriteString(`<edmx:Edmx Version="4.0" xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx"><edmx:DataServices><Schema Namespace="Large" xmlns="http://docs.oasis-open.org/odata/ns/edm">`)
	for i := range sets {
		fmt.Fprintf(&out, `<EntityType Name="Type%d"><Key><PropertyRef Name="Id"/></Key><Property Name="Id" Type="Edm.String" Nullable="false" MaxLength="10"/>`, i)
		for p := range 30 {
			fmt.Fprintf(&out, `<Property Name="Property%d" Type="Edm.Decimal" Nullable="false" Precision="12" Scale="2"><Annotation Term="Core.Computed" Bool="false"/></Property>`, p)
		}
		fmt.Fprintf(&out, `<NavigationProperty Name="Next" Type="Large.Type%d"/></EntityType>`, (i+1)%sets)
	}
	out.WriteString(`<EntityContainer Name="C">`)
	for i := range sets {
		fmt.Fprintf(&out, `<EntitySet Name="Set%d" EntityType="Large.Type%d"/>`, i, i)
	}
	out.WriteString(`</EntityContainer></Schema></edmx:DataServices></edmx:Edmx>`)
	return out.String()
}

func BenchmarkRead(b *testing.B) {
	text := []byte(large(3000))
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		root, err := document.ReadXML(text, "")
		if err != nil {
			b.Fatal(err)
		}
		c, err := odata.ReadXML("m", root)
		if err != nil || len(c.Names()) < 24_000 {
			b.Fatal(err, len(c.Names()))
		}
	}
}

func FuzzReadXML(f *testing.F) {
	f.Add([]byte(hall))
	f.Add([]byte(large(2)))
	f.Fuzz(func(_ *testing.T, data []byte) {
		root, err := document.ReadXML(data, "")
		if err != nil {
			return
		}
		c, err := odata.ReadXML("m", root)
		if err != nil {
			return
		}
		for _, name := range c.Names() {
			if op, _ := c.Operation(name); op != nil {
				op.SampleFields(schema.SampleOptions{Optional: true})
			}
		}
	})
}

func FuzzFilter(f *testing.F) {
	root, _ := document.ReadXML([]byte(hall), "")
	c, _ := odata.ReadXML("m", root)
	op, _ := c.Operation("Presses.list")
	f.Add("Load gt 5 and (Runs/any(r: r eq 1) or startswith(Hall,'a'))")
	f.Fuzz(func(_ *testing.T, text string) {
		op.Build(document.NewObject().Set("filter", document.NewText(text)).Set("expand",
			document.NewText(text)).Set("orderby", document.NewText(text)), contract.BuildOptions{})
	})
}

func FuzzReadBatch(f *testing.F) {
	contentType, body := odata.WriteMultipart([]odata.BatchPart{
		{ID: "1", Method: "GET", Address: "A"},
		{ID: "2", Method: "POST", Address: "$1/b", Body: []byte("{}")},
	}, true, false)
	f.Add(contentType, body)
	f.Add("multipart/mixed; boundary=b",
		[]byte("--b\r\nContent-Type: application/http\r\n\r\nHTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\n{}\r\n--b--"))
	f.Add("application/json", []byte(`{"responses": [{"id": "1", "status": 200, "body": {}}]}`))
	f.Fuzz(func(_ *testing.T, contentType string, body []byte) { _, _ = odata.ReadBatch(contentType, body) })
}
