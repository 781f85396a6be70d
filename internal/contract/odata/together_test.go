package odata_test

import (
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"testbench/internal/contract"
	"testbench/internal/document"
)

// Options are checked beside each other: what $apply and $compute make, others may name,
// and what they leave out, others may not; an alias is given and used, or told.
func TestTogether(t *testing.T) {
	ledger := operation(t, readFile(t, "ledger.xml"), "Suppliers.list")
	old := operation(t, readFile(t, "ledger-2.xml"), "Suppliers.list")
	for _, c := range []struct {
		fields []string // name, value, …
		want   string   // what is told; empty for nothing
	}{
		{[]string{"compute", "creditLimit mul 2 as twice", "select", "name,twice", "filter", "twice gt 5", "orderby", "twice desc"}, ""},
		{[]string{"select", "name,twice"}, "select names twice, which Supplier does not have"},
		{[]string{"compute", "creditLimt mul 2 as twice"}, `compute names creditLimt, which Supplier does not have; did you mean "creditLimit"?`},
		{[]string{"compute", "creditLimit mul 2"}, `compute has "creditLimit mul 2" without a name; write creditLimit mul 2 as Name`},
		{[]string{"compute", "creditLimit mul 2 as name"}, "compute calls a value name, which Supplier has already"},
		{[]string{"apply", "groupby((city),aggregate(creditLimit with sum as limit,$count as n))", "filter", "n gt 1", "orderby", "limit", "select", "city,n"}, ""},
		{[]string{"apply", "filter(active eq true)/groupby((city,rating))/topcount(3,city)"}, ""},
		{[]string{"apply", "groupby((city),aggregate($count as n))", "orderby", "name"}, "orderby names name, which the result for Supplier does not have; there are: city, n"},
		{[]string{"apply", "groupby((town))"}, "apply names town, which Supplier does not have"},
		{[]string{"apply", "groupby(city)"}, "apply groups by city; write groupby((Name, Other), aggregate(…))"},
		{[]string{"apply", "groupby((rollup($all,city)),aggregate(orders/$count as n))", "select", "city,n"}, ""},
		{[]string{"apply", "aggregate(creditLimit with total as all)"}, "apply aggregates with total, which is not a method; there are: sum, min, max, average, countdistinct"},
		{[]string{"apply", "aggregate(creditLimit with summ as all)"}, `did you mean "sum"?`},
		{[]string{"apply", "aggregate(creditLimit with Ledger.median as all,orders/total with max from city with sum as most)", "select", "all,most"}, ""},
		{[]string{"apply", "aggregate(creditLimit with sum)"}, `apply has "creditLimit with sum" without a name`},
		{[]string{"apply", "aggregate($count)"}, `apply has "$count" without a name`},
		{[]string{"apply", "aggregate(limit with sum as all)"}, "apply names limit, which Supplier does not have"},
		{[]string{"apply", "aggregat(creditLimit with sum as all)"}, `apply has "aggregat", which is not a transformation; did you mean "aggregate"?`},
		{[]string{"apply", "identity/Ledger.own(5)", "select", "whatever"}, ""},
		{[]string{"apply", "aggregate"}, "apply has aggregate without parentheses"},
		{[]string{"apply", "top(2"}, "does not end with a parenthesis"},
		{[]string{"apply", "top(-2)"}, `apply takes "-2", and must take an integer, 0 or more`},
		{[]string{"apply", "topsum(2)"}, "apply takes two values, how much and by what, and has (2)"},
		{[]string{"apply", "filter(name eq 'x)"}, "apply opens a text that is not closed"},
		{[]string{"apply", "concat(aggregate($count as n),groupby((city)))", "select", "n,city"}, ""},
		{[]string{"apply", "concat(aggregate($count as n),groupby((town)))"}, "apply names town"},
		{[]string{"apply", "compute(creditLimit mul 2 as twice)/filter(twice gt 5)/orderby(twice)/skip(1)"}, ""},
		{[]string{"expand", "orders($compute=total mul 2 as twice;$select=number,twice;$apply=identity)"}, ""},
		{[]string{"expand", "orders($select=number,twice)"}, "expand names twice, which PurchaseOrder does not have"},
		{[]string{"filter", "creditLimit gt @least and name ne '@most'", "@least", "5"}, ""},
		{[]string{"filter", "creditLimit gt @least"}, "@least is missing, and an option uses this alias"},
		{[]string{"filter", "creditLimit gt 5", "@least", "5"}, "@least is an alias that no option uses"},
		{[]string{"skiptoken", "x-17"}, ""},
	} {
		fields := document.NewObject()
		query := url.Values{}
		for i := 0; i < len(c.fields); i += 2 {
			fields.Set(c.fields[i], document.NewUntyped(c.fields[i+1]))
			query.Set(map[bool]string{true: "", false: "$"}[c.fields[i][0] == '@']+c.fields[i], c.fields[i+1])
		}
		request, problems := ledger.Build(fields, contract.BuildOptions{})
		var words []string
		for _, p := range problems {
			words = append(words, p.Message)
		}
		_, wrong, _ := ledger.Receive(&contract.Received{Query: query, Header: http.Header{}})
		if c.want == "" {
			assert.Empty(t, words, c.fields)
			assert.Empty(t, wrong, c.fields)
			assert.Len(t, request.Query, len(c.fields)/2, c.fields)
			continue
		}
		assert.Contains(t, strings.Join(words, ", "), c.want)
		assert.Contains(t, strings.Join(wrong, ", "), strings.TrimPrefix(c.want, c.fields[0]), "a simulated service refuses it too")
	}
	_, problems := ledger.Build(document.NewObject().Set("filter", document.NewUntyped("name eq @n")),
		contract.BuildOptions{Elsewhere: func(p contract.Parameter) bool { return p.Wire == "@n" }})
	assert.Empty(t, problems, "it is in the query already")
	request, problems := ledger.Build(document.NewObject().Set("filter", document.NewUntyped("creditLimit in @some")).
		Set("@some", document.NewList(document.NewUntyped("5"), document.NewUntyped("7"))), contract.BuildOptions{})
	assert.Empty(t, problems)
	assert.Equal(t, "@some=[5,7]", request.Query[0].Name+"="+request.Query[0].Value.Text)
	hallContract := readXML(t, strings.Replace(hall, `<ReturnType Type="Collection(Edm.Int32)"/>`, `<ReturnType Type="Collection(H.Press)"/>`, 1))
	free := operation(t, hallContract, "Main.Free")
	given, err := document.ReadJSON([]byte(`{"on": "2026-11-23", "word": "a", "span": {"From": "2026-11-01"}}`))
	assert.NoError(t, err)
	_, problems = free.Build(given, contract.BuildOptions{})
	assert.Empty(t, problems, "a parameter that goes by an alias is none of an option")
	_, problems = free.Build(given.Set("@least", document.NewText("5")), contract.BuildOptions{})
	assert.Len(t, problems, 1, "it has no options that could use an alias")
	_, problems = old.Build(document.NewObject().Set("apply", document.NewUntyped("identity")), contract.BuildOptions{})
	assert.Len(t, problems, 1, "version 2 has none")
}

// The content of a media entity, and properties that are streams, are read and written as
// they are; an entity that has content is created by it.
func TestStreams(t *testing.T) {
	c := readXML(t, strings.NewReplacer(`<EntityType Name="Press" BaseType="H.Thing" OpenType="true">`,
		`<EntityType Name="Press" BaseType="H.Thing" HasStream="true"><Property Name="Plan" Type="Edm.Stream"/>`).Replace(hall))
	var names []string
	for _, name := range c.Names() {
		if strings.HasPrefix(name, "Presses.content") || strings.HasPrefix(name, "Presses.Plan") {
			names = append(names, name)
		}
	}
	assert.Equal(t, "Presses.content.read Presses.content.replace Presses.content.remove Presses.Plan.read Presses.Plan.replace Presses.Plan.remove", strings.Join(names, " "))
	key := document.NewObject().Set("Hall", document.NewText("H1")).
		Set("Id", document.NewText("5e3a2a5e-0f0e-4c7a-9b6e-1d2c3b4a5968"))
	const one = "/Presses(Hall='H1',Id=5e3a2a5e-0f0e-4c7a-9b6e-1d2c3b4a5968)"
	for name, want := range map[string]string{
		"Presses.content.read": "GET " + one + "/$value", "Presses.content.replace": "PUT " + one + "/$value",
		"Presses.Plan.remove": "DELETE " + one + "/Plan", "Presses.create": "POST /Presses?$index=-1",
	} {
		o, fields := operation(t, c, name), key
		if name == "Presses.create" {
			fields = document.NewObject().Set("index", document.NewUntyped("-1"))
		}
		request, problems := o.Build(fields, contract.BuildOptions{Body: "bytes", Type: "image/png"})
		assert.Empty(t, problems, name)
		assert.Equal(t, want, strings.Split(written(request), " |")[0])
		assert.Equal(t, o.Method == "PUT" || o.Method == "POST", o.Body != nil)
		if o.Reads {
			judged := o.Judge(contract.Got{Status: 200, Header: http.Header{"Content-Type": {"image/png"}}, What: "a picture"})
			assert.True(t, judged.Judged)
			assert.Empty(t, judged.Wrong)
		}
	}
}

// What an answer's select list names is there, though the metadata does not have it.
func TestSelectList(t *testing.T) {
	list := operation(t, readFile(t, "ledger.xml"), "Suppliers.list")
	for context, wrong := range map[string]int{
		"$metadata#Suppliers(city,n)": 0, "$metadata#Suppliers(city,orders(n))": 0, "$metadata#Suppliers": 1,
		"$metadata#Suppliers(city)": 1, "http://h/$metadata#Suppliers(n,city)/$entity": 0, "": 1,
	} {
		body, err := document.ReadJSON([]byte(`{"@odata.context": "` + context + `", "value": [{"city": "Alm", "n": 3}]}`))
		assert.NoError(t, err)
		judged := list.Judge(contract.Got{
			Status: 200, Header: http.Header{"Content-Type": {"application/json"}}, Body: body,
		})
		assert.Len(t, judged.Wrong, wrong, context)
	}
}

// Functions that share a name are told apart by their parameters, bound and imported ones.
func TestOverloads(t *testing.T) {
	c := readXML(t, strings.NewReplacer(
		`<Function Name="Now">`, `<Function Name="Free" IsBound="true"><Parameter Name="one" Type="H.Press"/><ReturnType Type="Edm.Int32"/></Function><Function Name="Now"><Parameter Name="zone" Type="Edm.String" Nullable="false"/><ReturnType Type="Edm.DateTimeOffset"/></Function><Function Name="Now" IsBound="true"><Parameter Name="one" Type="H.Press"/><ReturnType Type="Edm.Int32"/></Function><Function Name="Now">`,
	).Replace(hall))
	var names []string
	for _, name := range c.Names() {
		if strings.Contains(name, "Now") || strings.Contains(name, "Free") {
			names = append(names, name)
		}
	}
	assert.Equal(t, "Presses.Free(on,word,span) Presses.Free() Presses.Now Main.Free(on,word,span) Main.Free() Main.Now Closed.Free(on,word,span) Closed.Free() Closed.Now Now(zone) Now()", strings.Join(names, " "))
	for name, want := range map[string]string{"Now(zone)": "GET /Now(zone='CET')", "Now()": "GET /Now()", "Main.Free()": "GET /Main/Hall.Free()"} {
		fields := document.NewObject()
		if name == "Now(zone)" {
			fields.Set("zone", document.NewText("CET"))
		}
		request, problems := operation(t, c, name).Build(fields, contract.BuildOptions{})
		assert.Empty(t, problems)
		assert.Equal(t, want, strings.Split(written(request), " |")[0])
	}
}
