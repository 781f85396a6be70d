package ledger

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/big"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"testbench/internal/standin/service"
)

// linesBelow answers for the lines of an order, which are reached through it alone:
// all of them, or one by its position.
func (f *face) linesBelow(c *call, order entity, rest string) (*outcome, *misstep) {
	t := f.books.lines
	switch p, _ := placeOf(rest); {
	case p.keyed && p.rest == "":
		line := lineAt(order, p.key)
		if line == nil {
			return nil, refuse(404, t.missing, "position", "the order %s has no line %s", order["number"], p.key)
		}
		return f.line(c, order, line)
	case !p.keyed && p.rest == "" && c.method == http.MethodGet:
		return f.list(c, t, rowsOf(order["lines"]))
	case !p.keyed && p.rest == "$count" && c.method == http.MethodGet:
		rows, refused := f.filtered(c, t, rowsOf(order["lines"]))
		if refused != nil {
			return nil, refused
		}
		return &outcome{
			status: 200, header: http.Header{"Content-Type": {"text/plain"}},
			text: strconv.Itoa(len(rows)),
		}, nil
	case !p.keyed && p.rest == "" && c.method == http.MethodPost:
		fields, refused := f.fields(c)
		if refused == nil {
			refused = f.books.addLine(order, fields)
		}
		if refused != nil {
			return nil, refused
		}
		lines := rowsOf(order["lines"])
		return f.oneAt(c, t, lines[len(lines)-1], 201, f.lineAddress(order, lines[len(lines)-1]))
	}
	return nil, refuse(405, "bad_method", "", "the lines of an order do not take %s", c.method)
}

func (f *face) lineAddress(order, line entity) string {
	return fmt.Sprintf("%s/PurchaseOrders('%s')/lines(%s)", f.root, order["number"], line["position"])
}

func lineAt(order entity, position string) entity {
	for _, line := range rowsOf(order["lines"]) {
		if fmt.Sprint(line["position"]) == position {
			return line
		}
	}
	return nil
}

// line reads, changes or removes one line; the order's total goes with it.
func (f *face) line(c *call, order, line entity) (*outcome, *misstep) {
	t := f.books.lines
	if c.method != http.MethodGet && order["state"] == "posted" {
		return nil, refuse(409, "posted_already", "state", "the order %s is posted already", order["number"])
	}
	switch c.method {
	case http.MethodGet:
		return f.oneAt(c, t, line, 200, f.lineAddress(order, line))
	case http.MethodPatch, http.MethodPut, "MERGE":
		fields, refused := f.fields(c)
		if refused != nil {
			return nil, refused
		}
		if refused := refusedFor(check(t, fields, c.method == http.MethodPut, "")); refused != nil {
			return nil, refused
		}
		// What a batch may have to take back is not changed in place.
		changed := maps.Clone(line)
		for _, name := range []string{"article", "quantity", "price"} {
			if v, has := fields[name]; has {
				changed[name] = v
			}
		}
		changed["amount"] = amountOf(changed)
		lines := slices.Clone(rowsOf(order["lines"]))
		lines[slices.IndexFunc(lines, func(other entity) bool {
			return other["position"] == line["position"]
		})] = changed
		order["lines"] = lines
		sumUp(order)
		f.books.touch(order)
		if f.older {
			return &outcome{status: 204}, nil
		}
		return f.oneAt(c, t, changed, 200, f.lineAddress(order, line))
	case http.MethodDelete:
		order["lines"] = slices.DeleteFunc(slices.Clone(rowsOf(order["lines"])), func(other entity) bool {
			return other["position"] == line["position"]
		})
		sumUp(order)
		f.books.touch(order)
		return &outcome{status: 204}, nil
	}
	return nil, refuse(405, "bad_method", "", "a line does not take %s", c.method)
}

func amountOf(line entity) json.Number {
	price, _ := hundredths(fmt.Sprint(line["price"]))
	quantity, _ := new(big.Int).SetString(fmt.Sprint(line["quantity"]), 10)
	return service.Cents(quantity.Int64() * price)
}

// sumUp gives an order the total of its lines.
func sumUp(order entity) {
	var total int64
	for _, line := range rowsOf(order["lines"]) {
		amount, _ := hundredths(fmt.Sprint(line["amount"]))
		total += amount
	}
	order["total"] = service.Cents(total)
}

// isLines says whether a path below an order leads to its lines.
func isLines(rest string) bool {
	return rest == "lines" || strings.HasPrefix(rest, "lines(") || strings.HasPrefix(rest, "lines/")
}
