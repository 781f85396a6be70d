package ledger

import (
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
)

// one gives an entity, as far as it is asked for.
func (f *face) one(c *call, t *table, one entity, status int) (*outcome, *misstep) {
	return f.oneAt(c, t, one, status, f.root+"/"+t.name+"('"+fmt.Sprint(one["number"])+"')")
}

// oneAt is an entity with the address that is its own.
func (f *face) oneAt(c *call, t *table, one entity, status int, address string) (*outcome, *misstep) {
	shaped, refused := f.shaped(c, t, one)
	if refused != nil {
		return nil, refused
	}
	o := &outcome{status: status, header: http.Header{}}
	if tag := etag(one); tag != "" {
		o.header.Set("ETag", tag)
	}
	if status == 201 {
		o.header.Set("Location", address)
	}
	if f.older {
		o.body = entity{"d": toOlder(t, f.root, shaped)}
		return o, nil
	}
	shaped["@odata.context"] = f.root + "/$metadata#" + t.name + "/$entity"
	shaped["@odata.id"] = address
	o.body = shaped
	return o, nil
}

// ledgerPage is how many entities one answer has at most.
const ledgerPage = 5

// list gives what is asked for of a set, page by page.
func (f *face) list(c *call, t *table, rows []entity) (*outcome, *misstep) {
	for name := range c.query {
		if strings.HasPrefix(name,
			"$") && !slices.Contains([]string{
			"$filter", "$select", "$expand", "$orderby", "$top", "$skip", "$count",
			"$inlinecount", "$search", "$format", "$skiptoken",
		}, name) {
			return nil, refuse(400, "bad_option", name, "there is no option %s", name)
		}
	}
	rows, refused := f.filtered(c, t, rows)
	if refused != nil {
		return nil, refused
	}
	if refused := ordered(c, t, rows); refused != nil {
		return nil, refused
	}
	total := len(rows)
	skip, top := 0, total
	for name, to := range map[string]*int{"$skip": &skip, "$top": &top} {
		if text := c.query.Get(name); text != "" {
			n, err := strconv.Atoi(text)
			if err != nil || n < 0 {
				return nil, refuse(400, "bad_option", name, "%s must be a whole number, and is %q", name, text)
			}
			*to = n
		}
	}
	from := min(skip, total)
	end := min(from+top, total)
	token, _ := strconv.Atoi(c.query.Get("$skiptoken"))
	begin := min(from+token, end)
	page := rows[begin:min(begin+ledgerPage, end)]
	next := ""
	if begin+ledgerPage < end {
		query := maps.Clone(c.query)
		query.Set("$skiptoken", strconv.Itoa(token+ledgerPage))
		next = f.root + "/" + c.path + "?" + query.Encode()
	}
	values := []any{}
	for _, one := range page {
		shaped, refused := f.shaped(c, t, one)
		if refused != nil {
			return nil, refused
		}
		if f.older {
			shaped = toOlder(t, f.root, shaped)
		}
		values = append(values, shaped)
	}
	if f.older {
		d := entity{"results": values}
		if c.query.Get("$inlinecount") == "allpages" {
			d["__count"] = strconv.Itoa(total)
		}
		if next != "" {
			d["__next"] = next
		}
		return &outcome{status: 200, body: entity{"d": d}}, nil
	}
	body := entity{"@odata.context": f.root + "/$metadata#" + t.name, "value": values}
	if c.query.Get("$count") == "true" {
		body["@odata.count"] = total
	}
	if next != "" {
		body["@odata.nextLink"] = next
	}
	return &outcome{status: 200, body: body}, nil
}

// filtered are the rows that $filter and $search take.
func (f *face) filtered(c *call, t *table, rows []entity) ([]entity, *misstep) {
	condition := func(entity) (any, error) { return true, nil }
	if text := c.query.Get("$filter"); text != "" {
		parsed, err := parseFilter(text)
		if err != nil {
			return nil, refuse(400, "bad_filter", "$filter", "the filter cannot be read: %s", err)
		}
		condition = parsed
	}
	var out []entity
	for _, one := range rows {
		taken, err := condition(t.whole(one))
		if err != nil {
			return nil, refuse(400, "bad_filter", "$filter", "%s", err)
		}
		if words := c.query.Get("$search"); words != "" &&
			!strings.Contains(strings.ToLower(fmt.Sprint(one)), strings.ToLower(words)) {
			continue
		}
		if taken == true {
			out = append(out, one)
		}
	}
	return out, nil
}

func ordered(c *call, t *table, rows []entity) *misstep {
	text := c.query.Get("$orderby")
	if text == "" {
		return nil
	}
	parts := strings.Split(text, ",")
	slices.Reverse(parts)
	for _, part := range parts {
		name, direction, _ := strings.Cut(strings.TrimSpace(part), " ")
		if !slices.Contains(t.properties(), name) {
			return refuse(400, "bad_option", "$orderby", "%s has no property %s", t.name, name)
		}
		slices.SortStableFunc(rows, func(a, b entity) int {
			n := compareValues(a[name], b[name])
			if strings.TrimSpace(direction) == "desc" {
				n = -n
			}
			return n
		})
	}
	return nil
}

// shaped is an entity with what is selected and expanded of it.
func (f *face) shaped(c *call, t *table, one entity) (entity, *misstep) {
	out := entity{}
	selected := strings.Split(c.query.Get("$select"), ",")
	all := c.query.Get("$select") == "" || slices.Contains(selected, "*")
	for _, name := range t.properties() {
		if all || slices.Contains(selected, name) {
			if v, has := one[name]; has {
				out[name] = v
			}
		}
	}
	if tag := etag(one); tag != "" {
		out["@odata.etag"] = tag
	}
	for _, name := range selected {
		if name = strings.TrimSpace(name); name != "" && name != "*" && !slices.Contains(t.properties(), name) &&
			!slices.Contains(t.leads, name) {
			return nil, refuse(400, "bad_option", "$select", "%s has no property %s", t.name, name)
		}
	}
	if text := c.query.Get("$expand"); text != "" {
		for _, name := range strings.Split(text, ",") {
			name, _, _ = strings.Cut(strings.TrimSpace(name), "(")
			if !slices.Contains(t.leads, name) {
				return nil, refuse(400, "bad_option", "$expand", "%s leads to no %s", t.name, name)
			}
			out[name] = t.whole(one)[name]
		}
	}
	return out, nil
}
