package jsonschema

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/big"
	"slices"
	"strconv"
	"strings"

	js "github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"

	"testbench/internal/document"
	"testbench/internal/schema"
	"testbench/internal/suggest"
)

// explain puts why a schema cannot be used into words.
func (s *Set) explain(at Location, err error) error {
	var broken *js.SchemaValidationError
	if errors.As(err, &broken) {
		var invalid *js.ValidationError
		if errors.As(broken.Err, &invalid) {
			faults := (&teller{set: s}).faults(invalid)
			if len(faults) > 0 {
				return fmt.Errorf("the schema at %s breaks its own rules: %s", at, faults[0].Text())
			}
		}
	}
	return fmt.Errorf("the schema at %s cannot be used: %w", at, err)
}

// Check holds a value against the schema.
func (s *Schema) Check(v *document.Node) []schema.Fault {
	err := s.compiled.Validate(value(v))
	var invalid *js.ValidationError
	var faults []schema.Fault
	switch {
	case errors.As(err, &invalid):
		faults = inOrder(v, (&teller{set: s.set, root: v}).faults(invalid))
	case err != nil:
		faults = []schema.Fault{{Message: err.Error()}}
	}
	if s.set.dialect != Alone {
		s.beyond(v, "", &faults, 0)
	}
	return faults
}

// inOrder sorts faults by where they are; the validator has no order.
func inOrder(root *document.Node, faults []schema.Fault) []schema.Fault {
	if len(faults) < 2 || root == nil {
		return faults
	}
	places := map[string]int{}
	var walk func(n *document.Node, path string)
	walk = func(n *document.Node, path string) {
		places[path] = len(places)
		for _, m := range n.Members() {
			walk(m.Value, memberPath(path, m.Key))
		}
		for i, item := range n.Items() {
			walk(item, path+"["+strconv.Itoa(i)+"]")
		}
	}
	walk(root, "")
	place := func(path string) int {
		for {
			if at, ok := places[path]; ok || path == "" {
				return at
			}
			path = path[:max(0, strings.LastIndexAny(path, ".["))] // to what holds it
		}
	}
	slices.SortStableFunc(faults, func(a, b schema.Fault) int { return place(a.Path) - place(b.Path) })
	return faults
}

// beyond finds what OpenAPI has rules for and JSON Schema has not: what is
// write-only and is in an answer (3.0.3, 4.7.24.1: it should not be sent), and
// a value that is not what its discriminator says (4.7.25).
func (s *Schema) beyond(v *document.Node, path string, faults *[]schema.Fault, depth int) {
	if depth > document.MaxDepth {
		return
	}
	switch v.Kind {
	case document.List:
		if items := s.items(); items != nil {
			for i, item := range v.Items() {
				items.beyond(item, path+"["+strconv.Itoa(i)+"]", faults, depth+1)
			}
		}
	case document.Object:
		s.pretended(v, path, faults)
		for _, p := range s.properties() {
			member := v.Get(p.name)
			below := schema.Below(path, p.name)
			switch {
			case member == nil:
			case p.writeOnly && s.set.direction == Answer:
				*faults = append(*faults,
					schema.Fault{Path: below, Message: below + " is write-only, and is in the answer"})
			case len(member.Members()) > 0 || len(member.Items()) > 0:
				p.schema.beyond(member, below, faults, depth+1)
			}
		}
	}
}

// pretended holds an object against the alternative that it says it is, and before 3.1 against the schema that
// inherits from the one at hand (2.0, Schema Object, discriminator; 3.0.3, 4.7.25).
func (s *Schema) pretended(v *document.Node, path string, faults *[]schema.Fault) {
	for _, one := range shapeOf(s.compiled).all {
		group, source := slices.Concat(one.OneOf, one.AnyOf), s.set.sourceOf(one)
		discriminator := source.Node.Get("discriminator")
		if discriminator == nil || len(*faults) > 0 {
			continue
		}
		if len(group) == 0 {
			if heir := s.heir(source, discriminator, v); heir != nil {
				*faults = append(*faults, heir.checkBelow(v, path)...)
			}
			continue
		}
		t := &teller{set: s.set, root: v}
		index, problem := t.meant(source, v)
		if problem != "" {
			*faults = append(*faults, schema.Fault{Path: path, Message: strings.TrimSpace(path + " " + problem)})
			continue
		}
		if index >= 0 && index < len(group) {
			*faults = append(*faults, (&Schema{set: s.set, compiled: group[index]}).checkBelow(v, path)...)
		}
	}
}

// checkBelow holds a value against the schema, and tells what is wrong by the path at which the value is.
func (s *Schema) checkBelow(v *document.Node, path string) []schema.Fault {
	faults := s.Check(v)
	for i := range faults {
		f := &faults[i]
		message := strings.TrimPrefix(f.Message, f.Path+" ")
		f.Path = strings.TrimSuffix(schema.Below(path, f.Path), ".")
		f.Message = strings.TrimSpace(f.Path + " " + message)
	}
	return faults
}

// heir is the schema that a value says it is, by a discriminator beside no alternatives; nil where that is the one at
// hand, or none that the description has.
func (s *Schema) heir(source Location, discriminator, v *document.Node) *Schema {
	name, where := discriminator.Get("propertyName"), "#/components/schemas/"
	switch s.set.dialect {
	case OpenAPI20:
		name, where = discriminator, "#/definitions/"
	case OpenAPI30:
	default:
		return nil // in 3.1 it does not change what is valid
	}
	if name == nil || v.Get(name.Text) == nil {
		return nil
	}
	word := v.Get(name.Text).Value().Text
	reference := where + word
	if mapped := discriminator.Get("mapping").Get(word); mapped != nil {
		if reference = mapped.Text; !strings.ContainsAny(reference, "#/.") {
			reference = where + reference
		}
	}
	place, err := s.set.docs.Resolve(source.Location, "", reference)
	if err != nil || place.String() == source.String() || place.String() == s.source.String() {
		return nil
	}
	heir, err := s.set.Open(place)
	if err != nil {
		return nil
	}
	return heir
}

// teller puts what the validator found into words.
type teller struct {
	set  *Set
	root *document.Node
}

// pathOf writes an instance location as paths are written.
func (t *teller) pathOf(tokens []string) string {
	path := ""
	at := t.root
	for _, token := range tokens {
		index, err := strconv.Atoi(token)
		switch {
		case at != nil && at.Kind == document.List && err == nil:
			path += "[" + token + "]"
			if index < len(at.Items()) {
				at = at.Items()[index]
			} else {
				at = nil
			}
		default:
			path = memberPath(path, token)
			at = at.Get(token)
		}
	}
	return path
}

// memberPath is the path of a member: its name in quotes where paths mean something else by it.
func memberPath(path, name string) string {
	if strings.ContainsAny(name, ". []\"|=") || name == "" {
		return path + "[" + strconv.Quote(name) + "]"
	}
	return schema.Below(path, name)
}

func (t *teller) at(tokens []string) *document.Node {
	at := t.root
	for _, token := range tokens {
		if index, err := strconv.Atoi(token); err == nil && at != nil && at.Kind == document.List {
			if index >= len(at.Items()) {
				return nil
			}
			at = at.Items()[index]
			continue
		}
		at = at.Get(token)
	}
	return at
}

// faults flattens a tree of errors into those that tell something, in the order
// of their paths.
func (t *teller) faults(e *js.ValidationError) []schema.Fault {
	var out []schema.Fault
	add := func(format string, args ...any) {
		out = append(out, t.fault(e.InstanceLocation, t.pathOf(e.InstanceLocation), fmt.Sprintf(format, args...)))
	}
	switch k := e.ErrorKind.(type) {
	case *kind.OneOf:
		if len(k.Subschemas) > 0 {
			add("fits more than one of the alternatives, and must fit just one")
			return out
		}
		return t.nearest(e)
	case *kind.AnyOf:
		return t.nearest(e)
	case *kind.Type:
		add("must be %s, and is %s", inWords(k.Want), t.described(e.InstanceLocation, k.Got))
	case *kind.Enum:
		add("must be one of %s, and is %s", listed(k.Want), t.described(e.InstanceLocation, shown(k.Got)))
	case *kind.Const:
		add("must be %s, and is %s", shown(k.Want), t.described(e.InstanceLocation, ""))
	case *kind.Format:
		why := ""
		if k.Err != nil && slices.ContainsFunc(formats, func(f *js.Format) bool { return f.Name == k.Want }) {
			why = ": " + k.Err.Error()
		}
		add("is not %s%s: %s", suggest.Article(formatWords(k.Want)), why, t.described(e.InstanceLocation, shown(k.Got)))
	case *kind.Required:
		for _, name := range k.Missing {
			there := t.at(e.InstanceLocation)
			message := "is missing"
			if there != nil {
				if near := suggest.Closest(name, there.Names()); near != "" {
					message += " (there is " + near + ")"
				}
			}
			out = append(out, t.fault(e.InstanceLocation, schema.Below(t.pathOf(e.InstanceLocation), name), message))
		}
	case *kind.AdditionalProperties:
		for _, name := range k.Properties {
			out = append(out, t.fault(append(slices.Clone(e.InstanceLocation), name),
				schema.Below(t.pathOf(e.InstanceLocation), name), "is not in the schema, which takes no others"))
		}
	case *kind.FalseSchema:
		add("may not be there")
	case *kind.Not:
		add("is what the schema excludes: %s", t.described(e.InstanceLocation, ""))
	case *kind.MinProperties:
		add("must have at least %d members, and has %d", k.Want, k.Got)
	case *kind.MaxProperties:
		add("must have at most %d members, and has %d", k.Want, k.Got)
	case *kind.MinItems:
		add("must have at least %d items, and has %d", k.Want, k.Got)
	case *kind.MaxItems:
		add("must have at most %d items, and has %d", k.Want, k.Got)
	case *kind.AdditionalItems:
		add("has %d items more than the schema takes", k.Count)
	case *kind.UniqueItems:
		add("holds the same item twice: [%d] and [%d]", k.Duplicates[0], k.Duplicates[1])
	case *kind.Contains, *kind.MinContains, *kind.MaxContains:
		add("does not hold the items that the schema asks for")
	case *kind.MinLength:
		add("must have at least %d characters, and has %d", k.Want, k.Got)
	case *kind.MaxLength:
		add("must have at most %d characters, and has %d", k.Want, k.Got)
	case *kind.Pattern:
		add("must match %s, and is %s", k.Want, t.described(e.InstanceLocation, shown(k.Got)))
	case *kind.Minimum:
		add("must be at least %s, and is %s", number(k.Want), t.described(e.InstanceLocation, ""))
	case *kind.Maximum:
		add("must be at most %s, and is %s", number(k.Want), t.described(e.InstanceLocation, ""))
	case *kind.ExclusiveMinimum:
		add("must be over %s, and is %s", number(k.Want), t.described(e.InstanceLocation, ""))
	case *kind.ExclusiveMaximum:
		add("must be under %s, and is %s", number(k.Want), t.described(e.InstanceLocation, ""))
	case *kind.MultipleOf:
		add("must be a multiple of %s, and is %s", number(k.Want), t.described(e.InstanceLocation, ""))
	case *kind.Dependency:
		add("has %s, and then needs %s too", k.Prop, strings.Join(k.Missing, ", "))
	case *kind.DependentRequired:
		add("has %s, and then needs %s too", k.Prop, strings.Join(k.Missing, ", "))
	case *kind.PropertyNames:
		add("has a member %q, whose name the schema does not take", k.Property)
	case *kind.ContentEncoding:
		add("is not encoded as %s", k.Want)
	case *kind.ContentMediaType:
		add("does not hold %s", k.Want)
	case *unusable:
		add("cannot be judged: %s", k.err)
	default:
		if len(e.Causes) == 0 {
			add("%s", e.Error())
		}
		for _, cause := range e.Causes {
			out = append(out, t.faults(cause)...)
		}
	}
	return out
}

// fault tells what is wrong at a place, with line and column where those are known.
func (t *teller) fault(tokens []string, path, message string) schema.Fault {
	f := schema.Fault{Path: path, Message: strings.TrimSpace(path + " " + message)}
	if node := t.at(tokens); node != nil {
		f.Line, f.Column = int(node.Line), int(node.Column)
	}
	return f
}

// nearest tells of alternatives that none fit what is wrong with the one that was
// most likely meant: the one that the discriminator names, else the one that
// goes wrong deepest or least.
func (t *teller) nearest(e *js.ValidationError) []schema.Fault {
	path := t.pathOf(e.InstanceLocation)
	if branch, problem := t.discriminated(e); problem != "" {
		return []schema.Fault{t.fault(e.InstanceLocation, path, problem)}
	} else if branch != nil {
		return t.faults(branch)
	}
	// The faults of each are told once: alternatives within alternatives would double
	// the work at each step down.
	var best *js.ValidationError
	var faults []schema.Fault
	bestScore := 0
	for _, cause := range e.Causes {
		told := t.faults(cause)
		score := 1_000 - len(told)
		if !typeMissed(cause, len(e.InstanceLocation)) {
			score += 10_000
		}
		if best == nil || score > bestScore {
			best, bestScore, faults = cause, score, told
		}
	}
	if best == nil {
		return []schema.Fault{t.fault(e.InstanceLocation, path, "fits none of the alternatives")}
	}
	if len(e.Causes) == 1 {
		return faults
	}
	if bestScore < 10_000 { // each goes wrong at its type
		var words []string
		for _, cause := range e.Causes {
			words = append(words, wantedTypes(cause)...)
		}
		if len(words) > 0 {
			return []schema.Fault{t.fault(e.InstanceLocation, path,
				"must be "+inWords(unique(words))+", and is "+t.described(e.InstanceLocation, ""))}
		}
	}
	for i := range faults {
		if strings.HasSuffix(faults[i].Message, " alternatives)") {
			continue // said already of what is within
		}
		faults[i].Message += fmt.Sprintf(" (the nearest of %d alternatives)", len(e.Causes))
	}
	return faults
}

func typeMissed(e *js.ValidationError, depth int) bool {
	if _, ok := e.ErrorKind.(*kind.Type); ok {
		return len(e.InstanceLocation) == depth
	}
	return len(e.Causes) > 0 && slices.ContainsFunc(e.Causes, func(c *js.ValidationError) bool {
		return typeMissed(c, depth)
	})
}

func wantedTypes(e *js.ValidationError) []string {
	if k, ok := e.ErrorKind.(*kind.Type); ok {
		return k.Want
	}
	var words []string
	for _, cause := range e.Causes {
		words = append(words, wantedTypes(cause)...)
	}
	return words
}

// discriminated finds the alternative that the value's own word names.
func (t *teller) discriminated(e *js.ValidationError) (branch *js.ValidationError, problem string) {
	source := t.set.sourceOf(&js.Schema{Location: e.SchemaURL})
	if source.Node.Get("discriminator") == nil {
		return nil, ""
	}
	index, problem := t.meant(source, t.at(e.InstanceLocation))
	if index < 0 || index >= len(e.Causes) {
		return nil, problem
	}
	return e.Causes[index], ""
}

// meant is the index of the alternative that a value says it is, -1 where that
// cannot be told; problem is set where it says none of them.
func (t *teller) meant(source Location, v *document.Node) (index int, problem string) {
	discriminator := source.Node.Get("discriminator")
	property := discriminator.Get("propertyName")
	if property == nil || v == nil {
		return -1, ""
	}
	word := v.Get(property.Text)
	if word == nil {
		return -1, "must say by " + property.Text + " what it is"
	}
	key := "oneOf"
	if source.Node.Get(key) == nil {
		key = "anyOf"
	}
	var names []string
	for i, alternative := range source.Below(key).Node.Items() {
		ref := alternative.Get("$ref")
		if ref == nil {
			continue
		}
		name := ref.Text[strings.LastIndexByte(ref.Text, '/')+1:]
		own := []string{name}
		if mapping := discriminator.Get("mapping"); mapping != nil {
			for _, m := range mapping.Members() {
				if m.Value.Text == ref.Text || m.Value.Text == name {
					own = append([]string{m.Key}, own...)
				}
			}
		}
		names = append(names, own[0])
		if slices.Contains(own, word.Text) {
			return i, ""
		}
	}
	return -1, fmt.Sprintf("says by %s that it is %s, and may be: %s", property.Text, word.Describe(),
		strings.Join(names, ", "))
}

func unique(words []string) []string {
	var out []string
	for _, w := range words {
		if !slices.Contains(out, w) {
			out = append(out, w)
		}
	}
	return out
}

// described says what is at a place.
func (t *teller) described(tokens []string, otherwise string) string {
	if node := t.at(tokens); node != nil {
		return node.Describe()
	}
	return otherwise
}

var typeWords = map[string]string{
	"string": "text", "array": "a list", "object": "an object", "null": "null",
	"integer": "integer", "number": "number", "boolean": "true or false",
}

func inWords(types []string) string {
	words := make([]string, len(types))
	for i, name := range types {
		words[i] = typeWords[name]
		if words[i] == "" {
			words[i] = name
		}
	}
	return strings.Join(words, " or ")
}

// formatWords are those of a format, for messages.
func formatWords(name string) string {
	switch name {
	case "date-time":
		return "date-time (2026-11-23T08:00:00Z)"
	case "date":
		return "date (2026-11-23)"
	case "time":
		return "time (08:00:00Z)"
	}
	return name
}

func listed(values []any) string {
	const most = 12
	words := []string{}
	for i, v := range values {
		if i == most {
			words = append(words, fmt.Sprintf("and %d more", len(values)-most))
			break
		}
		words = append(words, bare(v))
	}
	return strings.Join(words, ", ")
}

// bare writes a value as it is written in a list of words.
func bare(v any) string {
	if text, ok := v.(string); ok && text != "" && !strings.ContainsAny(text, ", ") {
		return text
	}
	return shown(v)
}

func shown(v any) string {
	switch v := v.(type) {
	case nil:
		return "null"
	case string:
		return document.NewText(v).Describe()
	case json.Number:
		return string(v)
	}
	text, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(text)
}

// number writes an exact number without its fraction bar.
func number(r *big.Rat) string {
	if r.IsInt() {
		return r.Num().String()
	}
	digits, exact := r.FloatPrec()
	if !exact {
		return r.RatString()
	}
	return r.FloatString(digits)
}
