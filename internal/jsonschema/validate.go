package jsonschema

import (
	"fmt"
	"math/big"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"testbench/internal/document"
	"testbench/internal/schema"
	"testbench/internal/suggest"
)

// freeSteps and stepsOfValue bound the schemas that are held against the values of one message: so many, and so many
// more for each value. mostWithin bounds those that hold for the same value, one by way of the other: a schema that
// leads to itself there has no meaning (2020-12, 9.4.1).
const (
	freeSteps    = 1_000_000
	stepsOfValue = 1_000
	mostWithin   = 500
)

// validator holds one value against a schema.
type validator struct {
	set   *Set
	root  *document.Node
	steps int
	most  int   // steps; 0 until they are more than freeSteps
	stuck error // why judging ended
	// broken is why a schema could not be used that the value was to be held against. What comes of it is unknown, also
	// where it is negated.
	broken error
}

// step counts a schema that is held against a value, and says whether that may go on.
func (v *validator) step(s *keywords, depth int) bool {
	v.steps++
	if v.steps > freeSteps && v.most == 0 {
		v.most = freeSteps + stepsOfValue*count(v.root)
	}
	switch {
	case v.stuck != nil:
	case depth > mostWithin:
		v.stuck = fmt.Errorf("the schema at %s leads to itself", s.at)
	case v.most > 0 && v.steps > v.most:
		v.stuck = fmt.Errorf("it takes more than %d steps", v.most)
	}
	return v.stuck == nil
}

// count is how many values a value holds, itself among them.
func count(n *document.Node) int {
	total := 1
	for _, m := range n.Members() {
		total += count(m.Value)
	}
	for _, item := range n.Items() {
		total += count(item)
	}
	return total
}

// place is where a value is in the one that is judged; nil for that one itself.
type place struct {
	in    *place
	name  string
	index int // of an item; -1 for a member
}

// path writes a place as paths are written.
func (p *place) path() string {
	switch {
	case p == nil:
		return ""
	case p.index >= 0:
		return p.in.path() + "[" + strconv.Itoa(p.index) + "]"
	}
	return memberPath(p.in.path(), p.name)
}

// scope are the resources that were gone through on the way to a schema (2020-12, 7.1).
type scope struct {
	outer    *scope
	resource *resource
}

// fault is what is wrong with one value.
type fault struct {
	schema.Fault
	of    *document.Node
	types []string // that it would have to be, where that is what is wrong
}

// judged is one value with what is said of it.
type judged struct {
	*validator
	value *document.Node
	at    *place
	scope *scope
	depth int // in schemas for the same value
	// seen marks the members or items that a schema has judged, where a keyword asks for those that none has; nil
	// where none asks.
	seen []bool
	told *[]fault // nil where only is asked whether it is valid
}

// tell notes what is wrong.
func (j *judged) tell(format string, args ...any) bool {
	return j.tellOf(j.value, j.at, nil, format, args...)
}

func (j *judged) tellOf(of *document.Node, at *place, types []string, format string, args ...any) bool {
	if j.told != nil {
		path := at.path()
		f := fault{of: of, types: types, Fault: schema.Fault{
			Path: path, Message: strings.TrimSpace(path + " " + fmt.Sprintf(format, args...)),
		}}
		if of != nil {
			f.Line, f.Column = int(of.Line), int(of.Column)
		}
		*j.told = append(*j.told, f)
	}
	return false
}

// holds says whether the value is as a schema says.
func (j *judged) holds(s *keywords) bool {
	if !j.step(s, j.depth) {
		return false
	}
	if s.always != nil {
		return *s.always || j.tell("may not be there")
	}
	if !j.mayBe(s) {
		return false
	}
	inner := *j
	inner.depth++
	if s.resource != plain && (j.scope == nil || j.scope.resource != s.resource) {
		inner.scope = &scope{j.scope, s.resource}
	}
	asks := s.unevaluatedProperties != nil || s.unevaluatedItems != nil
	if asks {
		inner.seen = make([]bool, len(j.value.Members())+len(j.value.Items()))
	}
	valid := true
	for _, keyword := range []func(*judged, *keywords) bool{
		(*judged).byReference, (*judged).byAlternatives, (*judged).byKind,
	} {
		if !keyword(&inner, s) {
			if valid = false; j.told == nil {
				return false
			}
		}
	}
	if asks {
		valid = inner.unevaluated(s) && valid
		for i, seen := range inner.seen {
			if j.seen != nil {
				j.seen[i] = j.seen[i] || seen
			}
		}
	}
	return valid
}

// byReference judges by what a schema refers to.
func (j *judged) byReference(s *keywords) bool {
	valid := true
	for _, r := range []*reference{s.ref, s.dynamicRef} {
		if r == nil {
			continue
		}
		target, err := r.open()
		if err == nil && r == s.dynamicRef {
			target, err = j.dynamic(s, target)
		}
		if err != nil {
			j.broken = err
			return j.tell("cannot be judged: %s", err)
		}
		valid = j.holds(target) && valid
	}
	return valid
}

// dynamic finds the outermost schema that a dynamic reference can mean (2020-12, 8.2.3.2; 2019-09, 8.2.4.2).
func (j *judged) dynamic(s, target *keywords) (*keywords, error) {
	if s.isRecursive {
		if !target.resource.isRecursive {
			return target, nil
		}
		for in := j.scope; in != nil && in.resource.isRecursive; in = in.outer {
			found, err := j.set.compileAt(in.resource.root)
			if err != nil {
				return nil, err
			}
			target = found
		}
		return target, nil
	}
	if !target.resource.dynamic[s.dynamicName] {
		return target, nil
	}
	for in := j.scope; in != nil; in = in.outer {
		if in.resource.dynamic[s.dynamicName] {
			found, err := j.set.compileAt(in.resource.anchors[s.dynamicName])
			if err != nil {
				return nil, err
			}
			target = found
		}
	}
	return target, nil
}

// mayBe says whether the value is of the types, and one of the only values, that a schema takes. Where it is not, what
// else the schema says is about other values.
func (j *judged) mayBe(s *keywords) bool {
	switch {
	case s.types != nil && !hasType(s.types, j.value):
		return j.tellOf(j.value, j.at, s.types, "must be %s, and is %s", kindsInWords(s.types), j.value.Describe())
	case s.only != nil && canonical(s.only) != canonical(j.value):
		return j.tell("must be %s, and is %s", shown(s.only), j.value.Describe())
	case s.values != nil && !s.values.known[canonical(j.value)]:
		return j.tell("must be one of %s, and is %s", listed(s.values.list), j.value.Describe())
	}
	return true
}

// hasType says whether a value has one of the types; a number without a fraction is an integer (2020-12, 4.2.3).
func hasType(types []string, n *document.Node) bool {
	kind := kindOf(n)
	return slices.Contains(types, kind) || kind == "number" && slices.Contains(types, "integer") && isWhole(n)
}

// kindOf is the type of a value.
func kindOf(n *document.Node) string {
	switch n.Kind {
	case document.Null:
		return "null"
	case document.Boolean:
		return "boolean"
	case document.Number:
		return "number"
	case document.List:
		return "array"
	case document.Object:
		return "object"
	case document.Untyped:
		switch {
		case document.IsNumber(n.Text):
			return "number"
		case n.Text == "true" || n.Text == "false":
			return "boolean"
		}
	}
	return "string"
}

func isWhole(n *document.Node) bool {
	if !strings.ContainsAny(n.Text, ".eE") {
		return true
	}
	r, ok := rational(n)
	return ok && r.IsInt()
}

// byAlternatives judges by schemas that hold for the same value.
func (j *judged) byAlternatives(s *keywords) bool {
	valid := true
	for _, one := range s.allOf {
		if !j.holds(one) {
			if valid = false; j.told == nil {
				return false
			}
		}
	}
	if s.not != nil {
		if fits, _ := j.try(s.not, false); fits {
			valid = j.tell("is what the schema excludes: %s", j.value.Describe())
		}
	}
	if len(s.anyOf) > 0 {
		valid = j.alternatives(s, s.anyOf, false) && valid
	}
	if len(s.oneOf) > 0 {
		valid = j.alternatives(s, s.oneOf, true) && valid
	}
	if s.when != nil && (s.then != nil || s.otherwise != nil || j.seen != nil) {
		branch := s.otherwise
		if fits, _ := j.try(s.when, false); fits {
			branch = s.then
		}
		if branch != nil {
			valid = j.holds(branch) && valid
		}
	}
	for _, d := range s.dependent {
		if j.value.Kind == document.Object && j.value.Get(d.name) != nil {
			valid = j.depends(d) && valid
		}
	}
	return valid
}

// try judges by a schema that need not hold: what it has judged counts where it does.
func (j *judged) try(s *keywords, telling bool) (bool, []fault) {
	inner := *j
	var told []fault
	inner.told = nil
	if telling {
		inner.told = &told
	}
	if j.seen != nil {
		inner.seen = make([]bool, len(j.seen))
	}
	valid := inner.holds(s)
	if valid {
		for i, seen := range inner.seen {
			j.seen[i] = j.seen[i] || seen
		}
	}
	return valid, told
}

// alternatives judges by schemas of which one holds, or no more than one.
func (j *judged) alternatives(s *keywords, group []*keywords, justOne bool) bool {
	fitting, broken := 0, j.broken
	wrong := make([][]fault, len(group))
	for i, one := range group {
		fits, told := j.try(one, j.told != nil)
		if wrong[i] = told; !fits {
			continue
		}
		if fitting++; fitting > 1 && justOne {
			return j.tell("fits more than one of the alternatives, and must fit just one")
		}
		if justOne {
			continue
		}
		j.broken = broken // one that fits is enough, whatever the others are
		if j.seen == nil {
			return true
		}
	}
	if fitting == 0 && j.told != nil {
		*j.told = append(*j.told, j.nearest(s, wrong)...)
	}
	return fitting > 0
}

func (j *judged) depends(d dependency) bool {
	if d.schema != nil {
		return j.holds(d.schema)
	}
	var missing []string
	for _, name := range d.required {
		if j.value.Get(name) == nil {
			missing = append(missing, name)
		}
	}
	return missing == nil || j.tell("has %s, and then needs %s too", d.name, strings.Join(missing, ", "))
}

// byKind judges what holds for values of one type alone.
func (j *judged) byKind(s *keywords) bool {
	switch kindOf(j.value) {
	case "object":
		return j.members(s)
	case "array":
		return j.items(s)
	case "string":
		return j.text(s)
	case "number":
		return j.number(s)
	}
	return true
}

// inner is a member or an item as it is judged.
func (j *judged) inner(value *document.Node, name string, index int) *judged {
	out := &judged{validator: j.validator, value: value.Value(), scope: j.scope, told: j.told}
	if j.told != nil {
		out.at = &place{j.at, name, index}
	}
	return out
}

// within judges a member or an item by a schema.
func (j *judged) within(s *keywords, value *document.Node, name string, index int) bool {
	return s.always != nil && *s.always || j.inner(value, name, index).holds(s)
}

func (j *judged) members(s *keywords) bool {
	valid := true
	members := j.value.Members()
	for i, m := range members {
		if j.told == nil && !valid {
			return false
		}
		if s.propertyNames != nil {
			name := &judged{validator: j.validator, value: document.NewText(m.Key), scope: j.scope}
			if !name.holds(s.propertyNames) {
				valid = j.tell("has a member %q, whose name the schema does not take", m.Key)
			}
		}
		isKnown := false
		if one := s.properties[m.Key]; one != nil {
			isKnown = true
			valid = j.within(one, m.Value, m.Key, -1) && valid
		}
		for _, p := range s.patternProperties {
			if j.matches(p.pattern, m.Key) {
				isKnown = true
				valid = j.within(p.schema, m.Value, m.Key, -1) && valid
			}
		}
		if more := s.additionalProperties; more != nil && !isKnown {
			isKnown = true
			if more.always != nil && !*more.always {
				valid = j.tellOf(m.Value, &place{j.at, m.Key, -1}, nil, "is not in the schema, which takes no others")
			} else {
				valid = j.within(more, m.Value, m.Key, -1) && valid
			}
		}
		if j.seen != nil {
			j.seen[i] = j.seen[i] || isKnown
		}
	}
	for _, name := range s.required {
		if j.value.Get(name) == nil {
			valid = j.missing(name)
		}
	}
	if s.minProperties != nil && len(members) < *s.minProperties {
		valid = j.tell("must have at least %d members, and has %d", *s.minProperties, len(members))
	}
	if s.maxProperties != nil && len(members) > *s.maxProperties {
		valid = j.tell("must have at most %d members, and has %d", *s.maxProperties, len(members))
	}
	return valid
}

// missing tells of a member that must be there.
func (j *judged) missing(name string) bool {
	if j.told == nil {
		return false
	}
	message := "is missing"
	if near := suggest.Closest(name, j.value.Names()); near != "" {
		message += " (there is " + near + ")"
	}
	return j.tellOf(j.value, &place{j.at, name, -1}, nil, "%s", message)
}

func (j *judged) items(s *keywords) bool {
	valid := true
	items := j.value.Items()
	for i, item := range items {
		if j.told == nil && !valid {
			return false
		}
		one := s.items
		if i < len(s.prefixItems) {
			one = s.prefixItems[i]
		}
		if one != nil {
			valid = j.within(one, item, "", i) && valid
			if j.seen != nil {
				j.seen[i] = true
			}
		}
	}
	if more := len(items) - len(s.prefixItems); s.takesNoMore && more > 0 {
		valid = j.tell("has %d items more than the schema takes", more)
	}
	if s.minItems != nil && len(items) < *s.minItems {
		valid = j.tell("must have at least %d items, and has %d", *s.minItems, len(items))
	}
	if s.maxItems != nil && len(items) > *s.maxItems {
		valid = j.tell("must have at most %d items, and has %d", *s.maxItems, len(items))
	}
	if s.uniqueItems {
		valid = j.distinct() && valid
	}
	if s.contains != nil {
		valid = j.containing(s) && valid
	}
	return valid
}

// containing counts the items that fit (2020-12, 10.3.1.3); these are judged, in 2020-12 also for unevaluatedItems.
func (j *judged) containing(s *keywords) bool {
	fitting := 0
	for i, item := range j.value.Items() {
		quiet := *j
		quiet.told = nil
		if quiet.within(s.contains, item, "", i) {
			fitting++
			if j.seen != nil && s.draft >= draft2020 {
				j.seen[i] = true
			}
		}
	}
	least := 1
	if s.minContains != nil {
		least = *s.minContains
	}
	if fitting < least || s.maxContains != nil && fitting > *s.maxContains {
		return j.tell("does not hold the items that the schema asks for")
	}
	return true
}

// unevaluated judges the members or items that no other keyword has judged (2020-12, 11).
func (j *judged) unevaluated(s *keywords) bool {
	valid := true
	if j.value.Kind == document.Object && s.unevaluatedProperties != nil {
		for i, m := range j.value.Members() {
			if !j.seen[i] {
				valid = j.within(s.unevaluatedProperties, m.Value, m.Key, -1) && valid
				j.seen[i] = true
			}
		}
	}
	if j.value.Kind == document.List && s.unevaluatedItems != nil {
		for i, item := range j.value.Items() {
			if !j.seen[i] {
				valid = j.within(s.unevaluatedItems, item, "", i) && valid
				j.seen[i] = true
			}
		}
	}
	return valid
}

func (j *judged) text(s *keywords) bool {
	valid := true
	if s.minLength != nil || s.maxLength != nil {
		length := utf8.RuneCountInString(j.value.Text)
		if s.minLength != nil && length < *s.minLength {
			valid = j.tell("must have at least %d characters, and has %d", *s.minLength, length)
		}
		if s.maxLength != nil && length > *s.maxLength {
			valid = j.tell("must have at most %d characters, and has %d", *s.maxLength, length)
		}
	}
	if s.pattern != nil && !j.matches(s.pattern, j.value.Text) {
		valid = j.tell("must match %s, and is %s", s.pattern, j.value.Describe())
	}
	if s.format != nil && s.format.text != nil {
		if err := s.format.text(j.value.Text); err != nil {
			valid = j.tell("is not %s%s: %s", suggest.Article(formatWords(s.format.name)), s.format.why(err),
				j.value.Describe())
		}
	}
	return valid
}

// matches says whether an expression is found in a text; where that takes too long, nothing can be said of the value.
func (j *judged) matches(p *pattern, text string) bool {
	found, err := p.isIn(text)
	if err != nil && j.stuck == nil {
		j.stuck = err
	}
	return found
}

func (j *judged) number(s *keywords) bool {
	valid := true
	for _, one := range []struct {
		bound *bound
		takes func(sign int) bool
		must  string
	}{
		{s.minimum, func(sign int) bool { return sign >= 0 }, "at least"},
		{s.maximum, func(sign int) bool { return sign <= 0 }, "at most"},
		{s.over, func(sign int) bool { return sign > 0 }, "over"},
		{s.under, func(sign int) bool { return sign < 0 }, "under"},
	} {
		if one.bound != nil && !one.takes(one.bound.compare(j.value)) {
			valid = j.tell("must be %s %s, and is %s", one.must, one.bound, j.value.Describe())
		}
	}
	if s.multipleOf != nil && !s.multipleOf.divides(j.value) {
		valid = j.tell("must be a multiple of %s, and is %s", s.multipleOf, j.value.Describe())
	}
	if s.format != nil && s.format.number != nil {
		if err := s.format.number(j.value); err != nil {
			valid = j.tell("is not %s%s: %s", suggest.Article(formatWords(s.format.name)), s.format.why(err),
				j.value.Describe())
		}
	}
	return valid
}

// compare is the sign of a number minus the bound.
func (b *bound) compare(n *document.Node) int {
	if whole, err := strconv.ParseInt(n.Text, 10, 64); err == nil && b.isWhole {
		switch {
		case whole < b.whole:
			return -1
		case whole > b.whole:
			return 1
		}
		return 0
	}
	r, _ := rational(n)
	return r.Cmp(b.exact)
}

// divides says whether a number is a multiple of the bound.
func (b *bound) divides(n *document.Node) bool {
	if whole, err := strconv.ParseInt(n.Text, 10, 64); err == nil && b.isWhole {
		return whole%b.whole == 0
	}
	r, _ := rational(n)
	return new(big.Rat).Quo(r, b.exact).IsInt()
}
