package ledger

import (
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"testbench/internal/standin/service"
)

// rpcFace is the ledger by JSON-RPC and XML-RPC, over the same books.
type rpcFace struct {
	books    *books
	sessions map[string]bool
}

func (f *rpcFace) register(mux *http.ServeMux, l *Service) {
	mux.HandleFunc("POST /ledger/jsonrpc", l.guard(f.json))
	mux.HandleFunc("POST /ledger/xmlrpc", l.guard(f.xml))
}

// rpcFault is an error of both protocols.
type rpcFault struct {
	code    int
	message string
	field   string
}

// do calls a method with its parameters by name, or by position in the order of
// the names.
func (f *rpcFace) do(method string, given any) (any, *rpcFault) {
	names, known := map[string][]string{
		"Session.open": {"user", "password"}, "Suppliers.find": {"name"}, "Suppliers.get": {"number"},
		"Orders.create": {"supplier", "on", "lines"}, "Orders.post": {"session", "number"},
		"Orders.total": {"currency"},
	}[method]
	if !known {
		return nil, &rpcFault{-32601, "there is no method " + method, ""}
	}
	fields := entity{}
	switch given := given.(type) {
	case nil:
	case entity:
		for name, v := range given {
			if !slices.Contains(names, name) {
				return nil, &rpcFault{-32602, "there is no parameter " + name, name}
			}
			fields[name] = v
		}
	case []any:
		if len(given) == 1 {
			if one, ok := given[0].(entity); ok {
				return f.do(method, one)
			}
		}
		for i, v := range given {
			if i >= len(names) {
				return nil, &rpcFault{-32602, fmt.Sprintf("%s takes %d parameters", method, len(names)), ""}
			}
			fields[names[i]] = v
		}
	default:
		return nil, &rpcFault{-32602, "params must be an object or a list", ""}
	}
	for _, name := range names {
		if _, has := fields[name]; !has && name != "lines" {
			return nil, &rpcFault{-32602, name + " is missing", name}
		}
	}
	f.books.mutex.Lock()
	defer f.books.mutex.Unlock()
	return f.carry(method, fields)
}

func (f *rpcFace) carry(method string, fields entity) (any, *rpcFault) {
	refused := func(m *misstep) *rpcFault {
		if len(m.details) > 0 {
			return &rpcFault{1000 + m.status, m.details[0].message, m.details[0].target}
		}
		return &rpcFault{1000 + m.status, m.message, m.target}
	}
	shown := func(one entity) entity {
		out := entity{}
		for name, v := range one {
			if name != "@odata.etag" {
				out[name] = v
			}
		}
		return out
	}
	suppliers, orders := f.books.tables["Suppliers"], f.books.tables["PurchaseOrders"]
	switch method {
	case "Session.open":
		if fields["user"] != "clerk" || !service.Same(fmt.Sprint(fields["password"]), service.Secrets["clerk"]) {
			return nil, &rpcFault{1401, "user or password is wrong", ""}
		}
		id := service.Random()
		f.sessions[id] = true
		return entity{"session": id}, nil
	case "Suppliers.find":
		found := []any{}
		for _, one := range suppliers.rows() {
			if strings.Contains(strings.ToLower(fmt.Sprint(one["name"])), strings.ToLower(fmt.Sprint(fields["name"]))) {
				found = append(found, shown(one))
			}
		}
		return found, nil
	case "Suppliers.get":
		if one := suppliers.find(fmt.Sprint(fields["number"])); one != nil {
			return shown(one), nil
		}
		return nil, &rpcFault{1404, fmt.Sprintf("there is no supplier %v", fields["number"]), "number"}
	case "Orders.create":
		made := entity{"supplierNumber": fields["supplier"], "orderedOn": fields["on"]}
		if fields["lines"] != nil {
			made["lines"] = fields["lines"]
		}
		one, m := orders.create(made)
		if m != nil {
			return nil, refused(m)
		}
		return shown(one), nil
	case "Orders.post":
		if !f.sessions[fmt.Sprint(fields["session"])] {
			return nil, &rpcFault{1401, "there is no such session", "session"}
		}
		one := orders.find(fmt.Sprint(fields["number"]))
		if one == nil {
			return nil, &rpcFault{1404, fmt.Sprintf("there is no order %v", fields["number"]), "number"}
		}
		if one["state"] == "posted" {
			return nil, &rpcFault{1409, fmt.Sprintf("the order %v is posted already", fields["number"]), "number"}
		}
		one["state"] = "posted"
		f.books.touch(one)
		return shown(one), nil
	}
	var total int64
	for _, order := range orders.rows() {
		if order["state"] == "draft" && order["currency"] == fields["currency"] {
			amount, _ := hundredths(fmt.Sprint(order["total"]))
			total += amount
		}
	}
	return service.Cents(total), nil
}

func (f *rpcFace) json(w http.ResponseWriter, r *http.Request) {
	var call struct {
		JSONRPC string `json:"jsonrpc"`
		Method  string
		Params  any
		ID      json.RawMessage
	}
	decoder := json.NewDecoder(r.Body)
	decoder.UseNumber()
	answer := entity{"jsonrpc": "2.0", "id": nil}
	fail := func(fault *rpcFault) {
		problem := entity{"code": fault.code, "message": fault.message}
		if fault.field != "" {
			problem["data"] = entity{"field": fault.field}
		}
		answer["error"] = problem
		service.WriteJSON(w, 200, answer)
	}
	if err := decoder.Decode(&call); err != nil {
		fail(&rpcFault{-32700, "the call is not JSON", ""})
		return
	}
	if len(call.ID) > 0 {
		answer["id"] = call.ID
	}
	if call.JSONRPC != "2.0" || call.Method == "" {
		fail(&rpcFault{-32600, "the call is not a call of JSON-RPC 2.0", ""})
		return
	}
	result, fault := f.do(call.Method, call.Params)
	if fault != nil {
		fail(fault)
		return
	}
	answer["result"] = result
	service.WriteJSON(w, 200, answer)
}

// xmlValue is a value of XML-RPC; the first of its parts that is there counts.
type xmlValue struct {
	Int     *string     `xml:"int"`
	I4      *string     `xml:"i4"`
	Double  *string     `xml:"double"`
	Boolean *string     `xml:"boolean"`
	String  *string     `xml:"string"`
	Moment  *string     `xml:"dateTime.iso8601"`
	Array   *[]xmlValue `xml:"array>data>value"`
	Struct  *struct {
		Members []struct {
			Name  string   `xml:"name"`
			Value xmlValue `xml:"value"`
		} `xml:"member"`
	} `xml:"struct"`
	Text string `xml:",chardata"`
}

func (v *xmlValue) read() any {
	switch {
	case v.Int != nil:
		return json.Number(*v.Int)
	case v.I4 != nil:
		return json.Number(*v.I4)
	case v.Double != nil:
		return json.Number(*v.Double)
	case v.Boolean != nil:
		return *v.Boolean == "1"
	case v.String != nil:
		return *v.String
	case v.Moment != nil:
		if text := *v.Moment; len(text) >= 8 {
			return text[:4] + "-" + text[4:6] + "-" + text[6:8]
		}
		return *v.Moment
	case v.Struct != nil:
		one := entity{}
		for _, m := range v.Struct.Members {
			one[m.Name] = m.Value.read()
		}
		return one
	case v.Array != nil:
		list := []any{}
		for _, item := range *v.Array {
			list = append(list, item.read())
		}
		return list
	}
	return v.Text
}

func (f *rpcFace) xml(w http.ResponseWriter, r *http.Request) {
	var call struct {
		XMLName xml.Name   `xml:"methodCall"`
		Method  string     `xml:"methodName"`
		Params  []xmlValue `xml:"params>param>value"`
	}
	w.Header().Set("Content-Type", "text/xml")
	fail := func(fault *rpcFault) {
		_, _ = io.WriteString(w,
			xml.Header+"<methodResponse><fault>"+
				writeXMLValue(entity{"faultCode": json.Number(strconv.Itoa(fault.code)), "faultString": fault.message})+
				"</fault></methodResponse>")
	}
	if err := xml.NewDecoder(r.Body).Decode(&call); err != nil {
		fail(&rpcFault{-32700, "the call is not XML-RPC", ""})
		return
	}
	given := []any{}
	for _, p := range call.Params {
		given = append(given, p.read())
	}
	result, fault := f.do(call.Method, given)
	if fault != nil {
		fail(fault)
		return
	}
	_, _ = io.WriteString(w,
		xml.Header+"<methodResponse><params><param>"+writeXMLValue(result)+"</param></params></methodResponse>")
}

func writeXMLValue(v any) string {
	escaped := func(text string) string {
		var out strings.Builder
		_ = xml.EscapeText(&out, []byte(text))
		return out.String()
	}
	inner := ""
	switch v := v.(type) {
	case nil:
		inner = "<nil/>"
	case bool:
		inner = map[bool]string{true: "<boolean>1</boolean>", false: "<boolean>0</boolean>"}[v]
	case json.Number:
		inner = "<double>" + v.String() + "</double>"
		if !strings.Contains(v.String(), ".") {
			inner = "<int>" + v.String() + "</int>"
		}
	case []any:
		for _, item := range v {
			inner += writeXMLValue(item)
		}
		inner = "<array><data>" + inner + "</data></array>"
	case []entity:
		for _, item := range v {
			inner += writeXMLValue(item)
		}
		inner = "<array><data>" + inner + "</data></array>"
	case entity:
		names := make([]string, 0, len(v))
		for name := range v {
			names = append(names, name)
		}
		slices.Sort(names)
		for _, name := range names {
			inner += "<member><name>" + escaped(name) + "</name>" + writeXMLValue(v[name]) + "</member>"
		}
		inner = "<struct>" + inner + "</struct>"
	default:
		inner = "<string>" + escaped(fmt.Sprint(v)) + "</string>"
	}
	return "<value>" + inner + "</value>"
}
