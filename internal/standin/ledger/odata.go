package ledger

import (
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"testbench/internal/standin/demo"
	"testbench/internal/standin/service"
)

// entity is what the ledger keeps and sends: names of properties with values as
// encoding/json has them, numbers as json.Number.
type entity = map[string]any

var ledgerMetadata = demo.File("contracts/ledger.xml")

var ledgerMetadata2 = demo.File("contracts/ledger-2.xml")

// face is the ledger by OData: version 4 below /ledger, version 2 below /ledger/v2.
type face struct {
	books *books
	root  string
	older bool
}

// misstep is an error of OData (JSON 4.01, 21.1): what is wrong, where, and with
// several mistakes each of them.
type misstep struct {
	status                int
	code, target, message string
	details               []misstep
}

func refuse(status int, code, target, format string, args ...any) *misstep {
	return &misstep{status: status, code: code, target: target, message: fmt.Sprintf(format, args...)}
}

// call is one request to a face, from outside or from a batch.
type call struct {
	method string
	path   string // below the root
	query  url.Values
	header http.Header
	body   []byte
}

// outcome is what a call gives.
type outcome struct {
	status int
	header http.Header
	body   any    // an entity, or another value of JSON
	text   string // in its place
}

func (f *face) serve(w http.ResponseWriter, r *http.Request) {
	data, err := io.ReadAll(r.Body)
	if err != nil {
		f.send(w, f.failed(refuse(http.StatusRequestEntityTooLarge, "too_large", "", "the body is too large")))
		return
	}
	path := strings.TrimPrefix(strings.TrimPrefix(r.URL.EscapedPath(), f.root), "/")
	if path == "$batch" {
		f.batch(w, r, data)
		return
	}
	f.send(w, f.handle(&call{r.Method, path, r.URL.Query(), r.Header, data}))
}

func (f *face) send(w http.ResponseWriter, o *outcome) {
	maps.Copy(w.Header(), o.header)
	if o.text != "" {
		w.WriteHeader(o.status)
		_, _ = io.WriteString(w, o.text)
		return
	}
	if o.body == nil {
		w.WriteHeader(o.status)
		return
	}
	w.Header().Set("Content-Type", f.mediaType())
	service.WriteJSON(w, o.status, o.body)
}

func (f *face) mediaType() string {
	if f.older {
		return "application/json;charset=utf-8"
	}
	return "application/json;odata.metadata=minimal"
}

// failed writes an error as its version has it.
func (f *face) failed(e *misstep) *outcome {
	body := entity{"code": e.code, "message": e.message}
	if f.older {
		body["message"] = entity{"lang": "en", "value": e.message}
		details := []any{}
		for _, d := range e.details {
			details = append(details, entity{"code": d.code, "message": d.message, "propertyref": d.target})
		}
		if e.target != "" {
			details = append(details, entity{"code": e.code, "message": e.message, "propertyref": e.target})
		}
		body["innererror"] = entity{"errordetails": details}
	} else {
		if e.target != "" {
			body["target"] = e.target
		}
		if len(e.details) > 0 {
			details := []any{}
			for _, d := range e.details {
				details = append(details, entity{"code": d.code, "target": d.target, "message": d.message})
			}
			body["details"] = details
		}
	}
	return &outcome{status: e.status, header: http.Header{}, body: entity{"error": body}}
}

// handle answers one call.
func (f *face) handle(c *call) *outcome {
	f.books.mutex.Lock()
	defer f.books.mutex.Unlock()
	o, refused := f.route(c)
	if refused != nil {
		return f.failed(refused)
	}
	if o.header == nil {
		o.header = http.Header{}
	}
	if f.older {
		o.header.Set("DataServiceVersion", "2.0")
	} else {
		o.header.Set("OData-Version", "4.0")
	}
	return o
}

// place is a path that was taken apart.
type place struct {
	set, key, rest string
	keyed          bool
}

func placeOf(path string) (place, error) {
	first, rest, _ := strings.Cut(path, "/")
	first, err := url.PathUnescape(first)
	if err != nil {
		return place{}, err
	}
	p := place{set: first, rest: rest}
	if open := strings.IndexByte(first, '('); open >= 0 && strings.HasSuffix(first, ")") {
		p.set, p.key, p.keyed = first[:open], first[open+1:len(first)-1], true
		if _, value, named := strings.Cut(p.key, "="); named && !strings.HasPrefix(p.key, "'") {
			p.key = value
		}
		p.key = strings.ReplaceAll(strings.Trim(p.key, "'"), "''", "'")
	}
	return p, nil
}

func (f *face) route(c *call) (*outcome, *misstep) {
	if c.path == "" {
		sets := []any{}
		for _, name := range []string{"Suppliers", "PurchaseOrders", "Intakes"} {
			sets = append(sets, entity{"name": name, "kind": "EntitySet", "url": name})
		}
		return &outcome{status: 200, body: entity{"@odata.context": "$metadata", "value": sets}}, nil
	}
	if c.path == "$metadata" {
		text := ledgerMetadata
		if f.older {
			text = ledgerMetadata2
		}
		return &outcome{status: 200, header: http.Header{"Content-Type": {"application/xml"}}, text: text}, nil
	}
	if number, ok := strings.CutPrefix(c.path, "monitor/"); ok {
		return f.monitored(c, number)
	}
	p, err := placeOf(c.path)
	if err != nil {
		return nil, refuse(400, "bad_path", "", "the path cannot be read")
	}
	if p.set == "OpenTotal" {
		return f.openTotal(c, p)
	}
	if f.older && p.set == "Post" {
		if c.method != http.MethodPost {
			return nil, refuse(405, "bad_method", "", "Post wants POST")
		}
		return f.post(c, strings.Trim(c.query.Get("number"), "'"))
	}
	t := f.books.tables[p.set]
	if t == nil || f.older && p.set == "Intakes" {
		return nil, refuse(404, "no_such_set", "", "there is no set %s", p.set)
	}
	switch {
	case !p.keyed && p.rest == "" && c.method == http.MethodGet:
		return f.list(c, t, t.rows())
	case !p.keyed && p.rest == "$count" && c.method == http.MethodGet:
		rows, refused := f.filtered(c, t, t.rows())
		if refused != nil {
			return nil, refused
		}
		return &outcome{
			status: 200, header: http.Header{"Content-Type": {"text/plain"}},
			text: strconv.Itoa(len(rows)),
		}, nil
	case !p.keyed && p.rest == "" && c.method == http.MethodPost:
		return f.create(c, t)
	case !p.keyed:
		return nil, refuse(405, "bad_method", "", "%s does not take %s", p.set, c.method)
	}
	one := t.find(p.key)
	if one == nil {
		return nil, refuse(404, t.missing, "number", "there is no %s %s", t.word, p.key)
	}
	if p.rest != "" {
		return f.below(c, t, one, p.rest)
	}
	switch c.method {
	case http.MethodGet:
		return f.one(c, t, one, 200)
	case http.MethodPatch, http.MethodPut, "MERGE":
		return f.change(c, t, one)
	case http.MethodDelete:
		if refused := matches(c, one); refused != nil {
			return nil, refused
		}
		if refused := t.remove(one); refused != nil {
			return nil, refused
		}
		return &outcome{status: 204}, nil
	}
	return nil, refuse(405, "bad_method", "", "%s does not take %s", p.set, c.method)
}

// below answers for what is below an entity: what it leads to, or its action.
func (f *face) below(c *call, t *table, one entity, rest string) (*outcome, *misstep) {
	switch {
	case t.name == "PurchaseOrders" && rest == "supplier" && c.method == http.MethodGet:
		s := f.books.tables["Suppliers"]
		return f.one(c, s, s.find(one["supplierNumber"].(string)), 200)
	case t.name == "PurchaseOrders" && isLines(rest):
		return f.linesBelow(c, one, rest)
	case t.name == "PurchaseOrders" && rest == "Heatherfold.Ledger.Post" && c.method == http.MethodPost:
		if len(c.body) > 0 {
			if _, refused := f.fields(c); refused != nil {
				return nil, refused
			}
		}
		return f.post(c, one["number"].(string))
	case t.name == "Suppliers" && rest == "orders" && c.method == http.MethodGet:
		var rows []entity
		for _, order := range f.books.tables["PurchaseOrders"].rows() {
			if order["supplierNumber"] == one["number"] {
				rows = append(rows, order)
			}
		}
		return f.list(c, f.books.tables["PurchaseOrders"], rows)
	}
	return nil, refuse(404, "no_such_path", "", "there is no %s below %s", rest, t.name)
}

func rowsOf(v any) []entity {
	rows, _ := v.([]entity)
	return rows
}

// fields reads the body of a call; those of version 2 as version 4 has them.
func (f *face) fields(c *call) (entity, *misstep) {
	if mediaType := c.header.Get("Content-Type"); !strings.HasPrefix(mediaType, "application/json") {
		return nil, refuse(415, "wrong_type", "", "the ledger takes application/json, not %q", mediaType)
	}
	decoder := json.NewDecoder(strings.NewReader(string(c.body)))
	decoder.UseNumber()
	var fields entity
	if err := decoder.Decode(&fields); err != nil {
		return nil, refuse(400, "not_json", "", "the body is not a JSON object: %s", err)
	}
	if f.older {
		fields = fromOlder(fields)
	}
	return fields, nil
}

// matches asks for the version of what is to be changed.
func matches(c *call, one entity) *misstep {
	switch match := c.header.Get("If-Match"); {
	case match == "":
		return refuse(428, "no_version", "If-Match", "If-Match must say which version is meant")
	case match != "*" && match != etag(one):
		return refuse(412, "changed_meanwhile", "If-Match", "it was changed meanwhile; it is now %s", etag(one))
	}
	return nil
}

func etag(one entity) string {
	tag, _ := one["@odata.etag"].(string)
	return tag
}

func (f *face) create(c *call, t *table) (*outcome, *misstep) {
	fields, refused := f.fields(c)
	if refused != nil {
		return nil, refused
	}
	one, refused := t.create(fields)
	if refused != nil {
		return nil, refused
	}
	if strings.Contains(c.header.Get("Prefer"), "respond-async") && !f.older {
		return f.later(c, t, one), nil
	}
	return f.one(c, t, one, 201)
}

func (f *face) change(c *call, t *table, one entity) (*outcome, *misstep) {
	if refused := matches(c, one); refused != nil {
		return nil, refused
	}
	fields, refused := f.fields(c)
	if refused != nil {
		return nil, refused
	}
	changed, refused := t.change(one, fields, c.method == http.MethodPut)
	if refused != nil {
		return nil, refused
	}
	if f.older {
		return &outcome{status: 204, header: http.Header{"ETag": {etag(changed)}}}, nil
	}
	return f.one(c, t, changed, 200)
}

// post posts an order, which can be done once.
func (f *face) post(c *call, number string) (*outcome, *misstep) {
	t := f.books.tables["PurchaseOrders"]
	one := t.find(number)
	switch {
	case one == nil:
		return nil, refuse(404, t.missing, "number", "there is no %s %s", t.word, number)
	case one["state"] == "posted":
		return nil, refuse(409, "posted_already", "state", "the order %s is posted already", number)
	case len(rowsOf(one["lines"])) == 0:
		return nil, refuse(422, "no_lines", "lines", "the order %s has no lines", number)
	}
	one["state"] = "posted"
	f.books.touch(one)
	return f.one(c, t, one, 200)
}

// openTotal is a function of the ledger as a whole.
func (f *face) openTotal(c *call, p place) (*outcome, *misstep) {
	currency := p.key
	if f.older {
		currency = strings.Trim(c.query.Get("currency"), "'")
	}
	if len(currency) != 3 {
		return nil, refuse(400, "bad_value", "currency", "the currency must have three letters")
	}
	var total int64
	for _, order := range f.books.tables["PurchaseOrders"].rows() {
		if order["state"] == "draft" && order["currency"] == currency {
			amount, _ := hundredths(fmt.Sprint(order["total"]))
			total += amount
		}
	}
	if f.older {
		return &outcome{status: 200, body: entity{"d": entity{"OpenTotal": service.Cents(total).String()}}}, nil
	}
	return &outcome{
		status: 200,
		body:   entity{"@odata.context": f.root + "/$metadata#Edm.Decimal", "value": service.Cents(total)},
	}, nil
}

// later puts an answer off: it is asked for at a place of its own.
func (f *face) later(c *call, t *table, one entity) *outcome {
	f.books.waiting++
	number := strconv.Itoa(f.books.waiting)
	asked := 0
	f.books.monitors[number] = func() (*outcome, bool) {
		asked++
		if asked < 2 {
			return nil, false
		}
		o, _ := f.one(c, t, one, 201)
		return o, true
	}
	return &outcome{
		status: 202,
		header: http.Header{"Location": {f.root + "/monitor/" + number}, "Preference-Applied": {"respond-async"}},
	}
}

// monitored answers for something that was put off (OData 4.0, 11.6).
func (f *face) monitored(c *call, number string) (*outcome, *misstep) {
	ask := f.books.monitors[number]
	if ask == nil {
		return nil, refuse(404, "no_such_monitor", "", "there is nothing to wait for under %s", number)
	}
	done, ready := ask()
	if !ready {
		return &outcome{status: 202, header: http.Header{"Location": {f.root + "/monitor/" + number}}}, nil
	}
	delete(f.books.monitors, number)
	if !strings.Contains(c.header.Get("Accept"), "application/http") {
		done.header.Set("AsyncResult", strconv.Itoa(done.status))
		done.status = 200
		return done, nil
	}
	text, _ := json.Marshal(done.body)
	return &outcome{
		status: 200, header: http.Header{"Content-Type": {"application/http"}},
		text: fmt.Sprintf("HTTP/1.1 %d %s\r\nContent-Type: %s\r\n\r\n%s", done.status, http.StatusText(done.status),
			f.mediaType(), text),
	}, nil
}
