package ledger

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// books are the ledger's suppliers and purchase orders, and its intakes as the
// other faces of the ledger have them.
type books struct {
	ledger   *Service
	mutex    sync.Mutex
	tables   map[string]*table
	lines    *table
	next     int
	version  int
	waiting  int
	monitors map[string]func() (*outcome, bool)
}

// column is a property with what is asked of it.
type column struct {
	// kind: text, date, instant, money, integer, boolean, or the words that are allowed, with a bar between
	name, kind string
	required   bool
	computed   bool
	most       int // characters
}

// table is a set of entities.
type table struct {
	name, word, missing string
	columns             []column
	kinds               map[string]string
	leads               []string // what navigation leads to
	rows                func() []entity
	find                func(number string) entity
	create              func(fields entity) (entity, *misstep)
	change              func(one, fields entity, whole bool) (entity, *misstep)
	remove              func(one entity) *misstep
	whole               func(one entity) entity // with what it leads to
	snapshot            func() (restore func())
	books               *books
}

func (t *table) properties() []string {
	names := make([]string, len(t.columns))
	for i, c := range t.columns {
		names[i] = c.name
	}
	return names
}

// inner is the table of what a name leads to.
func (t *table) inner(name string) *table {
	switch name {
	case "supplier":
		return t.books.tables["Suppliers"]
	case "orders":
		return t.books.tables["PurchaseOrders"]
	}
	return t.books.lines
}

var supplierColumns = []column{
	{name: "number", kind: "text", computed: true},
	{name: "name", kind: "text", required: true, most: 40},
	{name: "city", kind: "text", most: 30},
	{name: "since", kind: "date", required: true},
	{name: "rating", kind: "good|fair|poor"},
	{name: "creditLimit", kind: "money"},
	{name: "active", kind: "boolean"},
	{name: "note", kind: "text", most: 80},
}

var orderColumns = []column{
	{name: "number", kind: "text", computed: true},
	{name: "supplierNumber", kind: "text", required: true, most: 6},
	{name: "orderedOn", kind: "date", required: true},
	{name: "state", kind: "draft|posted", computed: true},
	{name: "currency", kind: "text", most: 3},
	{name: "total", kind: "money", computed: true},
	{name: "changedAt", kind: "instant", computed: true},
	{name: "note", kind: "text", most: 40},
}

var lineColumns = []column{
	{name: "position", kind: "integer", computed: true},
	{name: "article", kind: "text", required: true, most: 12},
	{name: "quantity", kind: "integer", required: true},
	{name: "price", kind: "money", required: true},
	{name: "amount", kind: "money", computed: true},
}

func newBooks(l *Service) *books {
	b := &books{ledger: l, tables: map[string]*table{}, next: 9000, monitors: map[string]func() (*outcome, bool){}}
	b.lines = b.table("OrderLines", "line", "no_such_line", lineColumns, nil)
	b.table("Suppliers", "supplier", "no_such_supplier", supplierColumns, []string{"orders"})
	b.table("PurchaseOrders", "order", "no_such_order", orderColumns, []string{"supplier", "lines"})
	b.intakes()
	names := []string{
		"Ansel Thripp", "Bryony Garrow", "Corin Fenwick", "Della Marsh", "Edda Loke", "Fenn & Daughters",
		"Gorse Hill Apiary", "Hollin O'Dea", "Ivo Tarn",
	}
	cities := []string{"Heathwick", "Lower Comb", "Sallow", "Heathwick"}
	suppliers, orders := b.tables["Suppliers"], b.tables["PurchaseOrders"]
	for i, name := range names {
		fields := entity{
			"name": name, "city": cities[i%len(cities)], "since": fmt.Sprintf("20%02d-04-%02d", 10+i, 1+i),
			"rating":      []string{"good", "fair", "good", "poor"}[i%4],
			"creditLimit": json.Number(fmt.Sprintf("%d.50", 1000*(i+1))),
		}
		if _, refused := suppliers.create(fields); refused != nil {
			panic(refused.message)
		}
	}
	for i := range 7 {
		fields := entity{
			"supplierNumber": fmt.Sprintf("S-%d", 101+i%4), "orderedOn": fmt.Sprintf("2026-10-%02d", 5+i),
			"lines": []any{
				entity{
					"article": "JAR-500", "quantity": json.Number(fmt.Sprint(100 * (i + 1))),
					"price": json.Number("0.42"),
				},
				entity{
					"article": "LID-63", "quantity": json.Number(fmt.Sprint(100 * (i + 1))),
					"price": json.Number("0.11"),
				},
			},
		}
		if _, refused := orders.create(fields); refused != nil {
			panic(refused.message)
		}
	}
	return b
}

// table makes a table of the books' own.
func (b *books) table(name, word, missing string, columns []column, leads []string) *table {
	t := &table{
		name: name, word: word, missing: missing, columns: columns, kinds: map[string]string{}, leads: leads,
		books: b,
	}
	for _, c := range columns {
		t.kinds[c.name] = c.kind
	}
	var all []entity
	t.rows = func() []entity { return slices.Clone(all) }
	t.find = func(number string) entity {
		for _, one := range all {
			if one["number"] == number {
				return one
			}
		}
		return nil
	}
	t.create = func(fields entity) (entity, *misstep) {
		one, refused := b.made(t, fields)
		if refused == nil {
			all = append(all, one)
		}
		return one, refused
	}
	t.change = func(one, fields entity, whole bool) (entity, *misstep) { return b.changed(t, one, fields, whole) }
	t.remove = func(one entity) *misstep {
		if one["state"] == "posted" {
			return refuse(409, "posted_already", "state", "a posted order cannot be removed")
		}
		all = slices.DeleteFunc(all, func(other entity) bool { return other["number"] == one["number"] })
		return nil
	}
	t.whole = func(one entity) entity { return b.whole(t, one) }
	t.snapshot = func() func() {
		var copied []entity
		for _, one := range all {
			copied = append(copied, maps.Clone(one))
		}
		return func() { all = copied }
	}
	b.tables[name] = t
	return t
}

// whole is an entity with what it leads to.
func (b *books) whole(t *table, one entity) entity {
	out := entity{}
	for name, v := range one {
		out[name] = v
	}
	switch t.name {
	case "PurchaseOrders":
		out["supplier"] = b.tables["Suppliers"].find(fmt.Sprint(one["supplierNumber"]))
	case "Suppliers":
		orders := []entity{}
		for _, order := range b.tables["PurchaseOrders"].rows() {
			if order["supplierNumber"] == one["number"] {
				orders = append(orders, order)
			}
		}
		out["orders"] = orders
	}
	return out
}

// check holds fields against their columns, and tells all that is wrong.
func check(t *table, fields entity, complete bool, prefix string) (wrong []misstep) {
	fail := func(code, name, format string, args ...any) {
		wrong = append(wrong, misstep{code: code, target: prefix + name, message: fmt.Sprintf(format, args...)})
	}
	for name := range fields {
		control := strings.Contains(name, "@")
		if !control && !slices.Contains(t.properties(), name) && !(t.name == "PurchaseOrders" && name == "lines") {
			fail("unknown_field", name, "there is no property %s", name)
		}
	}
	for _, c := range t.columns {
		v, has := fields[c.name]
		text := fmt.Sprint(v)
		switch {
		case has && c.computed:
			fail("computed", c.name, "%s is set by the ledger", c.name)
		case !has && c.required && complete:
			fail("missing_field", c.name, "%s is mandatory", c.name)
		case !has:
		case v == nil:
			if c.required {
				fail("missing_field", c.name, "%s is mandatory", c.name)
			}
		case c.kind == "text":
			if _, ok := v.(string); !ok {
				fail("bad_type", c.name, "%s must be text", c.name)
			} else if c.most > 0 && len([]rune(text)) > c.most {
				fail("too_long", c.name, "%s may have %d characters", c.name, c.most)
			}
		case c.kind == "date":
			if _, err := time.Parse(time.DateOnly, text); err != nil {
				fail("bad_value", c.name, "%s must be a day", c.name)
			}
		case c.kind == "boolean":
			if _, ok := v.(bool); !ok {
				fail("bad_type", c.name, "%s must be true or false", c.name)
			}
		case c.kind == "integer":
			if n, ok := v.(json.Number); !ok || strings.ContainsAny(text, ".eE") ||
				strings.HasPrefix(n.String(), "-") || text == "0" {
				fail("bad_value", c.name, "%s must be a whole number over 0", c.name)
			}
		case c.kind == "money":
			if _, ok := v.(json.Number); !ok {
				fail("bad_type", c.name, "%s must be a number", c.name)
			} else if _, err := hundredths(text); err != nil {
				fail("bad_value", c.name, "%s may have two digits after the point", c.name)
			}
		default:
			if words := strings.Split(c.kind, "|"); !slices.Contains(words, text) {
				fail("bad_value", c.name, "%s must be one of %s", c.name, strings.Join(words, ", "))
			}
		}
	}
	slices.SortFunc(wrong, func(a, b misstep) int { return strings.Compare(a.target, b.target) })
	return wrong
}

// refused makes one error of all that is wrong.
func refusedFor(wrong []misstep) *misstep {
	switch len(wrong) {
	case 0:
		return nil
	case 1:
		return &misstep{status: 422, code: wrong[0].code, target: wrong[0].target, message: wrong[0].message}
	}
	return &misstep{
		status: 400, code: "several_mistakes", message: fmt.Sprintf("%d fields are wrong", len(wrong)),
		details: wrong,
	}
}

// made makes an entity, an order with its lines.
func (b *books) made(t *table, fields entity) (entity, *misstep) {
	wrong := check(t, fields, true, "")
	lines, _ := fields["lines"].([]any)
	for i, line := range lines {
		inner, ok := line.(entity)
		if !ok {
			wrong = append(wrong, misstep{
				code: "bad_type", target: fmt.Sprintf("lines/%d", i),
				message: "a line must be an object",
			})
			continue
		}
		wrong = append(wrong, check(b.lines, inner, true, fmt.Sprintf("lines/%d/", i))...)
	}
	if number, ok := fields["supplierNumber"].(string); ok && t.name == "PurchaseOrders" &&
		b.tables["Suppliers"].find(number) == nil {
		wrong = append(wrong, misstep{
			code: "no_such_supplier", target: "supplierNumber",
			message: "there is no supplier " + number,
		})
	}
	if refused := refusedFor(wrong); refused != nil {
		return nil, refused
	}
	one := entity{}
	for _, c := range t.columns {
		one[c.name] = fields[c.name]
	}
	switch t.name {
	case "Suppliers":
		one["number"] = fmt.Sprintf("S-%d", 101+len(t.rows()))
		if one["rating"] == nil {
			one["rating"] = "fair"
		}
		if one["active"] == nil {
			one["active"] = true
		}
	case "PurchaseOrders":
		b.next++
		one["number"], one["state"] = fmt.Sprintf("PO-%d", b.next), "draft"
		if one["currency"] == nil {
			one["currency"] = "EUR"
		}
		one["lines"] = []entity{}
		one["total"] = json.Number("0.00")
		for _, line := range lines {
			appendLine(one, line.(entity))
		}
	}
	b.touch(one)
	return one, nil
}

// appendLine puts a line to an order, after those that it has, and its amount to the
// total.
func appendLine(order, fields entity) {
	lines := rowsOf(order["lines"])
	position := 1
	if len(lines) > 0 {
		last, _ := strconv.Atoi(fmt.Sprint(lines[len(lines)-1]["position"]))
		position = last + 1
	}
	line := entity{
		"position": json.Number(strconv.Itoa(position)), "article": fields["article"],
		"quantity": fields["quantity"], "price": fields["price"],
	}
	line["amount"] = amountOf(line)
	order["lines"] = append(lines, line)
	sumUp(order)
}

func (b *books) addLine(order, fields entity) *misstep {
	if order["state"] == "posted" {
		return refuse(409, "posted_already", "state", "the order %s is posted already", order["number"])
	}
	if refused := refusedFor(check(b.lines, fields, true, "")); refused != nil {
		return refused
	}
	appendLine(order, fields)
	b.touch(order)
	return nil
}

// touch gives an entity a new version.
func (b *books) touch(one entity) {
	b.version++
	one["@odata.etag"] = fmt.Sprintf(`W/"%s-%d"`, one["number"], b.version)
	if _, has := one["changedAt"]; has {
		one["changedAt"] = time.Now().UTC().Format("2006-01-02T15:04:05.000Z")
	}
}

func (b *books) changed(t *table, one, fields entity, whole bool) (entity, *misstep) {
	if one["state"] == "posted" {
		return nil, refuse(409, "posted_already", "state", "the order %s is posted already", one["number"])
	}
	if refused := refusedFor(check(t, fields, whole, "")); refused != nil {
		return nil, refused
	}
	for _, c := range t.columns {
		if v, has := fields[c.name]; has && !c.computed {
			one[c.name] = v
		} else if whole && !c.computed && !c.required {
			one[c.name] = nil
		}
	}
	b.touch(one)
	return one, nil
}

// intakes shows the ledger's intakes as a table.
func (b *books) intakes() {
	columns := []column{
		{name: "number", kind: "text"},
		{name: "lot", kind: "text"},
		{name: "grade", kind: "text"},
		{name: "kilos", kind: "money"},
		{name: "moisture", kind: "money"},
		{name: "note", kind: "text"},
		{name: "currency", kind: "text"},
		{name: "lines", kind: "lines"},
		{name: "total", kind: "money"},
	}
	t := b.table("Intakes", "intake", "no_such_intake", columns, nil)
	l := b.ledger
	shown := func(i *intake) entity {
		var one entity
		text, _ := json.Marshal(i)
		decoder := json.NewDecoder(strings.NewReader(string(text)))
		decoder.UseNumber()
		_ = decoder.Decode(&one)
		one["@odata.etag"] = i.etag()
		return one
	}
	t.rows = func() []entity {
		l.mutex.Lock()
		defer l.mutex.Unlock()
		var all []entity
		for _, i := range l.intakes {
			all = append(all, shown(i))
		}
		slices.SortFunc(all, func(a, b entity) int {
			return strings.Compare(fmt.Sprint(a["number"]), fmt.Sprint(b["number"]))
		})
		return all
	}
	t.find = func(number string) entity {
		l.mutex.Lock()
		defer l.mutex.Unlock()
		if i := l.intakes[number]; i != nil {
			return shown(i)
		}
		return nil
	}
	t.create = func(fields entity) (entity, *misstep) {
		l.mutex.Lock()
		defer l.mutex.Unlock()
		i, wrong, status := l.book(fields)
		if wrong != nil {
			return nil, refuse(status, wrong.code, wrong.field, "%s", wrong.message)
		}
		return shown(i), nil
	}
	t.change = func(one, fields entity, whole bool) (entity, *misstep) {
		l.mutex.Lock()
		defer l.mutex.Unlock()
		i := l.intakes[fmt.Sprint(one["number"])]
		if !whole {
			for _, name := range []string{"lot", "grade", "kilos", "moisture", "note"} {
				if _, given := fields[name]; !given && one[name] != nil {
					fields[name] = one[name]
				}
			}
		}
		changed := *i
		if wrong := l.fill(&changed, fields); wrong != nil {
			return nil, refuse(422, wrong.code, wrong.field, "%s", wrong.message)
		}
		changed.version++
		*i = changed
		l.accounts.enter(i)
		return shown(i), nil
	}
	t.remove = func(one entity) *misstep {
		l.mutex.Lock()
		defer l.mutex.Unlock()
		delete(l.intakes, fmt.Sprint(one["number"]))
		l.accounts.strike(fmt.Sprint(one["number"]))
		return nil
	}
}
