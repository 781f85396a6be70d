package ledger

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"
)

// toOlder writes values as version 2 has them.
func toOlder(t *table, root string, one entity) entity {
	out := entity{}
	for name, v := range one {
		switch {
		case name == "@odata.etag":
		case t.kinds[name] == "date":
			day, _ := time.Parse(time.DateOnly, fmt.Sprint(v))
			out[name] = fmt.Sprintf("/Date(%d)/", day.UnixMilli())
		case t.kinds[name] == "instant":
			at, _ := time.Parse(time.RFC3339, fmt.Sprint(v))
			out[name] = fmt.Sprintf("/Date(%d+0000)/", at.UnixMilli())
		case t.kinds[name] == "money" && v != nil:
			out[name] = fmt.Sprint(v)
		default:
			switch inner := v.(type) {
			case []entity:
				results := []any{}
				for _, one := range inner {
					results = append(results, toOlder(t.inner(name), root, one))
				}
				out[name] = entity{"results": results}
			case entity:
				out[name] = toOlder(t.inner(name), root, inner)
			default:
				out[name] = v
			}
		}
	}
	if t.leads == nil {
		return out
	}
	address := root + "/" + t.name + "('" + fmt.Sprint(one["number"]) + "')"
	out["__metadata"] = entity{
		"uri": address, "type": "Heatherfold.Ledger." + strings.TrimSuffix(t.name, "s"),
		"etag": one["@odata.etag"],
	}
	for _, name := range t.leads {
		if _, has := out[name]; !has {
			out[name] = entity{"__deferred": entity{"uri": address + "/" + name}}
		}
	}
	return out
}

// fromOlder reads the values of version 2.
func fromOlder(fields entity) entity {
	out := entity{}
	for name, v := range fields {
		if name == "__metadata" {
			continue
		}
		switch v := v.(type) {
		case string:
			var ticks int64
			if n, _ := fmt.Sscanf(v, "/Date(%d", &ticks); n == 1 {
				out[name] = time.UnixMilli(ticks).UTC().Format(time.DateOnly)
				continue
			}
			out[name] = v
			if name == "price" || name == "creditLimit" {
				out[name] = json.Number(v)
			}
		case map[string]any:
			if results, ok := v["results"].([]any); ok {
				out[name] = olderList(results)
				continue
			}
			out[name] = fromOlder(v)
		case []any:
			out[name] = olderList(v)
		default:
			out[name] = v
		}
	}
	return out
}

func olderList(items []any) []any {
	list := []any{}
	for _, item := range items {
		if one, ok := item.(map[string]any); ok {
			item = fromOlder(one)
		}
		list = append(list, item)
	}
	return list
}
