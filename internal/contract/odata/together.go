package odata

import (
	"maps"
	"slices"
	"strconv"
	"strings"

	"testbench/internal/document"
	"testbench/internal/lazy"
	"testbench/internal/schema"
	"testbench/internal/suggest"
)

type queryCheck struct {
	option string
	check  func(q *queryChecker, text string) []string
}

// queryChecks are how the query options are checked, in the order in which a service
// evaluates them: $apply and $compute make properties that the others name (OData 4.01
// Part 1, 11.2.1; Data Aggregation 4.0, 3).
func queryChecks() []queryCheck {
	return []queryCheck{
		{"$apply", (*queryChecker).applied},
		{"$compute", (*queryChecker).computed},
		{"$filter", func(q *queryChecker, text string) []string { return q.filter(text) }},
		{"$orderby", func(q *queryChecker, text string) []string { return q.ordered(text) }},
		{"$select", func(q *queryChecker, text string) []string { return q.selected(text) }},
		{"$expand", func(q *queryChecker, text string) []string { return q.expanded(text) }},
	}
}

// together checks the query options of a call beside each other. Given has what each is;
// what comes back is what is wrong with each.
func (q queryChecker) together(given map[string]*document.Node) map[string][]string {
	wrong := map[string][]string{}
	for _, one := range queryChecks() {
		v := given[one.option]
		switch {
		case v == nil:
			continue
		case v == schema.Unknown && (one.option == "$apply" || one.option == "$compute"):
			return wrong // which properties there are is not known
		case v == schema.Unknown:
			continue
		}
		if says := one.check(&q, v.Text); len(says) > 0 {
			wrong[one.option] = says
		}
	}
	return wrong
}

// aliasForm finds the aliases of values; a name with a dot is one of an annotation.
var aliasForm = lazy.Regexp(`'(?:[^']|'')*'|@[\pL_][\pL\pN_]*(\.)?`)

// aliased checks that each alias is used, and that each that is used is given (OData 4.01
// Part 2, 5.1.1.14).
func aliased(given map[string]*document.Node) map[string][]string {
	used := map[string]bool{}
	for name, v := range given {
		switch {
		case v == schema.Unknown:
			return nil // what it uses is not known
		case strings.HasPrefix(name, "$"):
			for _, found := range aliasForm().FindAllStringSubmatch(v.Text, -1) {
				used[found[0]] = strings.HasPrefix(found[0], "@") && found[1] == ""
			}
		}
	}
	wrong := map[string][]string{}
	for name := range given {
		if strings.HasPrefix(name, "@") && !used[name] {
			wrong[name] = []string{"is an alias that no option uses"}
		}
	}
	for name, isAlias := range used {
		if isAlias && given[name] == nil {
			wrong[name] = []string{"is missing, and an option uses this alias"}
		}
	}
	return wrong
}

// made is a property that a query makes; nothing is known of its type.
func made(name string) *property { return &property{name: name, facets: noFacets, nullable: true} }

// with is a type with more properties.
func (t *typeDef) with(more ...*property) *typeDef {
	out := *t
	out.properties = append(slices.Clone(t.properties), more...)
	out.index()
	return &out
}

// only is a type that has just these properties: those of a result that was aggregated.
func only(t *typeDef, properties []*property) *typeDef {
	out := &typeDef{kind: complexKind, name: "the result for " + local(t.name), properties: properties}
	out.index()
	return out
}

// computed checks what is calculated for each of the entities, and gives them its names
// (OData 4.01 Part 2, 5.1.3.1).
func (q *queryChecker) computed(text string) []string {
	var says []string
	var more []*property
	for _, one := range split(text, ',') {
		expression, name, ok := cutAlias(one)
		if !ok {
			q.fail(&says, "has %q without a name; write %s as Name", one, one)
			continue
		}
		says = append(says, q.expression(q.t, expression)...)
		if q.m.property(q.t, name) != nil {
			q.fail(&says, "calls a value %s, which %s has already", name, local(q.t.name))
			continue
		}
		more = append(more, made(name))
	}
	q.t = q.t.with(more...)
	return says
}

// cutAlias cuts "total mul 2 as Double" into what is calculated and its name.
func cutAlias(text string) (expression, name string, ok bool) {
	at := strings.LastIndex(text, " as ")
	if at < 0 {
		return text, "", false
	}
	name = strings.TrimSpace(text[at+len(" as "):])
	return strings.TrimSpace(text[:at]), name, name != "" && !strings.ContainsAny(name, " ()',")
}

// aggregating are the methods of aggregation (Data Aggregation 4.0, 3.1.2).
var aggregating = []string{"sum", "min", "max", "average", "countdistinct"}

// transformations are those of $apply that take and give instances (Data Aggregation 4.0,
// 3.2 to 3.6 and 6.2).
func transformations() map[string]func(q *queryChecker, inside string) []string {
	return map[string]func(q *queryChecker, inside string) []string{
		"aggregate": (*queryChecker).aggregated,
		"groupby":   (*queryChecker).grouped,
		"compute":   (*queryChecker).computed,
		"filter":    func(q *queryChecker, inside string) []string { return q.expression(q.t, inside) },
		"orderby":   func(q *queryChecker, inside string) []string { return q.ordered(inside) },
		"top":       howMany, "skip": howMany,
		"topcount": ranked, "topsum": ranked, "toppercent": ranked,
		"bottomcount": ranked, "bottomsum": ranked, "bottompercent": ranked,
		"concat": (*queryChecker).concatenated,
		"search": unchanged, "identity": unchanged, "expand": unchanged, "ancestors": unchanged,
		"descendants": unchanged, "traverse": unchanged,
		"join": opened, "outerjoin": opened, "nest": opened, "addnested": opened,
	}
}

// unchanged is for what changes nothing of which properties there are.
func unchanged(*queryChecker, string) []string { return nil }

// opened is for what adds properties in ways that are not followed.
func opened(q *queryChecker, _ string) []string {
	q.t = q.t.with()
	q.t.open = true
	return nil
}

func howMany(q *queryChecker, inside string) []string {
	var says []string
	if _, err := strconv.ParseUint(inside, 10, 63); err != nil && !strings.HasPrefix(inside, "@") {
		q.fail(&says, "takes %q, and must take an integer, 0 or more", inside)
	}
	return says
}

// ranked checks topcount(3, Total) and its like.
func ranked(q *queryChecker, inside string) []string {
	parts := split(inside, ',')
	if len(parts) != 2 {
		return []string{"takes two values, how much and by what, and has (" + inside + ")"}
	}
	return append(q.expression(q.t, parts[0]), q.expression(q.t, parts[1])...)
}

// applied checks transformations, each of what the one before gave.
func (q *queryChecker) applied(text string) []string {
	if _, wrong := tokens(strings.ReplaceAll(text, "/", " ")); wrong != "" {
		return []string{wrong}
	}
	var says []string
	for _, one := range split(text, '/') {
		name, inside, has := strings.Cut(one, "(")
		check := transformations()[name]
		switch {
		case check == nil && strings.Contains(name, "."):
			check = opened // one that the service defines
		case check == nil:
			known := slices.Sorted(maps.Keys(transformations()))
			q.fail(&says, "has %q, which is not a transformation; %s", name, suggest.Instead(name, known))
			return says
		case has && !strings.HasSuffix(inside, ")"):
			q.fail(&says, "has %q, which does not end with a parenthesis", one)
			return says
		case !has && name != "identity":
			q.fail(&says, "has %s without parentheses", name)
			return says
		}
		for _, wrong := range check(q, strings.TrimSpace(strings.TrimSuffix(inside, ")"))) {
			q.fail(&says, "%s", wrong)
		}
	}
	return says
}

// concatenated checks the sequences of concat; what comes has properties of each of them.
func (q *queryChecker) concatenated(inside string) []string {
	var says []string
	for _, one := range split(inside, ',') {
		inner := *q
		says = append(says, inner.applied(one)...)
	}
	opened(q, "")
	return says
}

// aggregated checks aggregate(Total with sum as All, $count as Lots).
func (q *queryChecker) aggregated(inside string) []string {
	var says []string
	var results []*property
	for _, one := range split(inside, ',') {
		expression, name, named := cutAlias(one)
		expression, _, _ = strings.Cut(expression, " from ")
		what, method, has := strings.Cut(expression, " with ")
		method = strings.TrimSpace(method)
		what = strings.TrimSpace(what)
		switch {
		case has && !slices.Contains(aggregating, method) && !strings.Contains(method, "."):
			q.fail(&says, "aggregates with %s, which is not a method; %s", method, suggest.Instead(method, aggregating))
		case what != "$count" && !strings.HasSuffix(what, "/$count"):
			says = append(says, q.expression(q.t, what)...)
		}
		switch {
		case named:
			results = append(results, made(name))
		case has || strings.HasSuffix(what, "$count"):
			q.fail(&says, "has %q without a name; write %s as Name", one, one)
		default: // a custom aggregate keeps its own name
			results = append(results, made(what))
		}
	}
	q.t = only(q.t, results)
	return says
}

// grouped checks groupby((Name, Depot/City), aggregate(…)).
func (q *queryChecker) grouped(inside string) []string {
	parts := split(inside, ',')
	names, isList := strings.CutPrefix(parts[0], "(")
	if !isList || !strings.HasSuffix(names, ")") || len(parts) > 2 {
		return []string{"groups by " + inside + "; write groupby((Name, Other), aggregate(…))"}
	}
	var says []string
	var results []*property
	for _, path := range split(strings.TrimSuffix(names, ")"), ',') {
		if rolled, isRollup := strings.CutPrefix(path, "rollup("); isRollup {
			for _, one := range split(strings.TrimSuffix(rolled, ")"), ',') {
				if p := q.found(one, &says); p != nil {
					results = append(results, p)
				}
			}
			continue
		}
		if p := q.found(path, &says); p != nil {
			results = append(results, p)
		}
	}
	inner := *q
	if len(parts) == 2 {
		says = append(says, inner.applied(parts[1])...)
		if inner.t != q.t {
			results = append(results, inner.t.properties...)
		}
	}
	q.t = only(q.t, results)
	return says
}

// found is the first property of a path that is grouped by.
func (q *queryChecker) found(path string, says *[]string) *property {
	if path == "$all" || path == "" {
		return nil
	}
	q.find(q.t, path, says)
	first, _, _ := strings.Cut(path, "/")
	return q.m.property(q.t, first)
}
