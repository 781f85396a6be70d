package jsonschema

import (
	"fmt"
	"math/big"
	"slices"
	"strconv"
	"strings"

	"testbench/internal/document"
)

// compiler reads the schemas of one resource.
type compiler struct {
	set *Set
	in  *resource
	id  string // that the schema around calls itself, in a description
}

// keyword says in which drafts a keyword is known, 0 for all, and how it is read.
type keyword struct {
	from, to draft
	read     func(r *reader, at Location)
}

// reader reads one schema.
type reader struct {
	compiler
	node *document.Node
	into *keywords
	err  error
}

// compileAt compiles the schema at a place, once.
func (s *Set) compileAt(at Location) (*keywords, error) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	key := at.String()
	if done := s.compiled[key]; done != nil || s.broken[key] != nil {
		return done, s.broken[key]
	}
	c := compiler{set: s, in: plain}
	var err error
	if s.dialect == Alone {
		c.in, err = s.resourceOf(at)
	}
	var made *keywords
	if err == nil {
		made, err = c.schema(at)
	}
	if err != nil {
		s.broken[key] = err
	}
	return made, err
}

// plain is the resource of the schemas in a description: 2020-12, whatever its dialect; what is said otherwise
// before is read as it is said now.
var plain = &resource{draft: draft2020}

// schema compiles a schema.
func (c compiler) schema(at Location) (*keywords, error) {
	key := at.String()
	if done := c.set.compiled[key]; done != nil {
		return done, nil
	}
	n := at.Node
	if own := c.set.roots[key]; own != nil {
		c.in = own
	}
	k := &keywords{at: at, resource: c.in, draft: c.in.draft}
	switch {
	case n != nil && n.Kind == document.Boolean && k.draft > draft4:
		yes := n.Text == "true"
		k.always = &yes
	case n == nil || n.Kind != document.Object:
		return nil, fmt.Errorf("the schema at %s breaks its own rules: it must be an object, and is %s", at,
			n.Describe())
	default:
		r := &reader{compiler: c, node: n, into: k}
		if r.all(at); r.err != nil {
			return nil, r.err
		}
	}
	c.set.compiled[key] = k
	return k, nil
}

// all reads the keywords of a schema.
func (r *reader) all(at Location) {
	old := r.set.isOld()
	if own := r.node.Get("$id"); own != nil && own.Kind == document.Text && r.in == plain && !old {
		r.id = resolveID(r.id, own.Text)
	}
	ref := r.node.Get("$ref")
	hasRef := ref != nil && ref.Kind == document.Text
	if hasRef {
		r.into.ref = r.reference("$ref", ref.Text)
		if old || r.into.draft <= draft7 { // what is beside it says nothing (3.0.3, 4.7.23; draft 7, 8.3)
			return
		}
	}
	for _, m := range r.node.Members() {
		known, ok := keywordTable[m.Key]
		d := r.into.draft
		switch {
		case !ok || known.from > d || known.to != 0 && known.to < d:
		case old && !slices.Contains(known30, m.Key):
		default:
			known.read(r, at.Member(m))
		}
		if r.err != nil {
			return
		}
	}
	if r.into.when == nil { // without it they say nothing (2020-12, 10.2.2)
		r.into.then, r.into.otherwise = nil, nil
	}
	if r.in == plain {
		r.direct()
	}
	switch {
	case old:
		r.modern()
	case r.into.draft == draft4:
		r.exclusiveBounds()
	}
	if !old && r.node.Get("$dynamicRef") != nil {
		r.dynamic(hasRef)
	}
	if r.into.draft == draft2019 && r.node.Get("$recursiveRef") != nil {
		r.into.isRecursive = true
		r.into.dynamicRef = r.reference("$recursiveRef", "#")
	}
}

// dynamic reads $dynamicRef; in a description it is a reference as others are.
func (r *reader) dynamic(hasRef bool) {
	to := r.node.Get("$dynamicRef")
	switch {
	case to.Kind != document.Text || r.into.draft < draft2020:
	case r.in == plain && !hasRef:
		r.into.ref = r.reference("$dynamicRef", to.Text)
	case r.in != plain:
		r.into.dynamicRef = r.reference("$dynamicRef", to.Text)
		_, r.into.dynamicName, _ = strings.Cut(to.Text, "#")
	}
}

// reference finds what a reference leads to; that is compiled later.
func (r *reader) reference(key, text string) *reference {
	var place Location
	var err error
	if r.in == plain {
		place, err = r.set.docs.Resolve(r.into.at.Location, r.id, text)
	} else {
		place, err = r.set.resolve(r.in, text)
	}
	if err != nil {
		r.err = err
		return nil
	}
	made := &reference{set: r.set, at: place}
	if r.in != plain {
		r.set.pending = append(r.set.pending, made)
	}
	return made
}

// fail says what of a keyword breaks the rules of schemas.
func (r *reader) fail(at Location, must string) {
	if r.err == nil {
		r.err = fmt.Errorf("the schema at %s breaks its own rules: %s must be %s, and is %s", r.into.at,
			strings.TrimPrefix(at.Pointer, r.into.at.Pointer+"/"), must, at.Node.Describe())
	}
}

// schema reads a schema within the one at hand.
func (r *reader) schema(at Location) *keywords {
	if r.err != nil {
		return nil
	}
	made, err := r.compiler.schema(at)
	r.err = err
	return made
}

func (r *reader) schemas(at Location) []*keywords {
	if at.Node.Kind != document.List || len(at.Node.Items()) == 0 {
		r.fail(at, "a list of schemas")
		return nil
	}
	out := make([]*keywords, len(at.Node.Items()))
	for i := range out {
		out[i] = r.schema(at.Below(strconv.Itoa(i)))
	}
	return out
}

// named reads schemas by names, in their order.
func (r *reader) named(at Location, each func(name string, one *keywords)) {
	if at.Node.Kind != document.Object {
		r.fail(at, "an object")
		return
	}
	for _, m := range at.Node.Members() {
		if one := r.schema(at.Member(m)); one != nil {
			each(m.Key, one)
		}
	}
}

// count reads a number of characters, items or members.
func (r *reader) count(at Location) *int {
	if n, ok := rational(at.Node); ok && n.IsInt() && n.Sign() >= 0 {
		count := 1 << 62
		if n.Num().IsInt64() {
			count = int(n.Num().Int64())
		}
		return &count
	}
	r.fail(at, "a whole number that is not negative")
	return nil
}

func (r *reader) bound(at Location) *bound {
	if n, ok := rational(at.Node); ok {
		return newBound(n)
	}
	r.fail(at, "a number")
	return nil
}

func (r *reader) flag(at Location) bool {
	if at.Node.Kind != document.Boolean {
		r.fail(at, "true or false")
	}
	return isTrue(at.Node)
}

func (r *reader) texts(at Location) []string {
	out := []string{}
	for _, item := range at.Node.Items() {
		if item.Kind != document.Text {
			r.fail(at, "a list of texts")
			return nil
		}
		out = append(out, item.Text)
	}
	if at.Node.Kind != document.List {
		r.fail(at, "a list of texts")
	}
	return out
}

// words reads what schemas say for people; what is not text is left out.
func words(n *document.Node) string {
	if n.Kind == document.Text || n.Kind == document.Untyped {
		return n.Text
	}
	return ""
}

// keywordTable are the keywords that judge, show or make values. Others say nothing.
var keywordTable map[string]keyword

func init() { //nolint:gochecknoinits // the table's functions read schemas, which go by the table
	one := func(field func(k *keywords) **keywords) func(*reader, Location) {
		return func(r *reader, at Location) { *field(r.into) = r.schema(at) }
	}
	list := func(field func(k *keywords) *[]*keywords) func(*reader, Location) {
		return func(r *reader, at Location) { *field(r.into) = r.schemas(at) }
	}
	count := func(field func(k *keywords) **int) func(*reader, Location) {
		return func(r *reader, at Location) { *field(r.into) = r.count(at) }
	}
	limit := func(field func(k *keywords) **bound) func(*reader, Location) {
		return func(r *reader, at Location) { *field(r.into) = r.bound(at) }
	}
	flag := func(field func(k *keywords) *bool) func(*reader, Location) {
		return func(r *reader, at Location) { *field(r.into) = r.flag(at) }
	}
	keywordTable = map[string]keyword{
		"type":  {0, 0, (*reader).types},
		"enum":  {0, 0, (*reader).enum},
		"const": {draft6, 0, func(r *reader, at Location) { r.into.only = at.Node }},

		"not":   {0, 0, one(func(k *keywords) **keywords { return &k.not })},
		"if":    {draft7, 0, one(func(k *keywords) **keywords { return &k.when })},
		"then":  {draft7, 0, one(func(k *keywords) **keywords { return &k.then })},
		"else":  {draft7, 0, one(func(k *keywords) **keywords { return &k.otherwise })},
		"allOf": {0, 0, list(func(k *keywords) *[]*keywords { return &k.allOf })},
		"anyOf": {0, 0, list(func(k *keywords) *[]*keywords { return &k.anyOf })},
		"oneOf": {0, 0, list(func(k *keywords) *[]*keywords { return &k.oneOf })},

		"properties":            {0, 0, (*reader).properties},
		"patternProperties":     {0, 0, (*reader).patternProperties},
		"additionalProperties":  {0, 0, (*reader).additionalProperties},
		"unevaluatedProperties": {draft2019, 0, one(func(k *keywords) **keywords { return &k.unevaluatedProperties })},
		"propertyNames":         {draft6, 0, one(func(k *keywords) **keywords { return &k.propertyNames })},
		"required":              {0, 0, (*reader).required},
		"minProperties":         {0, 0, count(func(k *keywords) **int { return &k.minProperties })},
		"maxProperties":         {0, 0, count(func(k *keywords) **int { return &k.maxProperties })},
		"dependencies":          {0, draft7, (*reader).dependencies},
		"dependentRequired":     {draft2019, 0, (*reader).dependencies},
		"dependentSchemas":      {draft2019, 0, (*reader).dependencies},

		"prefixItems":      {draft2020, 0, list(func(k *keywords) *[]*keywords { return &k.prefixItems })},
		"items":            {0, 0, (*reader).items},
		"additionalItems":  {0, draft2019, (*reader).additionalItems},
		"unevaluatedItems": {draft2019, 0, one(func(k *keywords) **keywords { return &k.unevaluatedItems })},
		"contains":         {draft6, 0, one(func(k *keywords) **keywords { return &k.contains })},
		"minContains":      {draft2019, 0, count(func(k *keywords) **int { return &k.minContains })},
		"maxContains":      {draft2019, 0, count(func(k *keywords) **int { return &k.maxContains })},
		"minItems":         {0, 0, count(func(k *keywords) **int { return &k.minItems })},
		"maxItems":         {0, 0, count(func(k *keywords) **int { return &k.maxItems })},
		"uniqueItems":      {0, 0, flag(func(k *keywords) *bool { return &k.uniqueItems })},

		"minimum":          {0, 0, limit(func(k *keywords) **bound { return &k.minimum })},
		"maximum":          {0, 0, limit(func(k *keywords) **bound { return &k.maximum })},
		"exclusiveMinimum": {0, 0, (*reader).exclusive},
		"exclusiveMaximum": {0, 0, (*reader).exclusive},
		"multipleOf":       {0, 0, (*reader).multipleOf},
		"minLength":        {0, 0, count(func(k *keywords) **int { return &k.minLength })},
		"maxLength":        {0, 0, count(func(k *keywords) **int { return &k.maxLength })},
		"pattern":          {0, 0, func(r *reader, at Location) { r.into.pattern = r.pattern(at, at.Node) }},
		"format":           {0, 0, func(r *reader, at Location) { r.into.format = formatOf(words(at.Node)) }},

		"title":       {0, 0, func(r *reader, at Location) { r.into.title = words(at.Node) }},
		"description": {0, 0, func(r *reader, at Location) { r.into.description = words(at.Node) }},
		"default":     {0, 0, func(r *reader, at Location) { r.into.byDefault = at.Node }},
		"deprecated":  {0, 0, func(r *reader, at Location) { r.into.deprecated = isTrue(at.Node) }},
		"readOnly":    {0, 0, func(r *reader, at Location) { r.into.readOnly = isTrue(at.Node) }},
		"writeOnly":   {0, 0, func(r *reader, at Location) { r.into.writeOnly = isTrue(at.Node) }},
		"nullable":    {0, 0, func(r *reader, at Location) { r.flag(at) }},
	}
}

// kinds are the types of values, in the order in which messages name them.
var kinds = []string{"null", "boolean", "number", "integer", "string", "array", "object"}

func (r *reader) types(at Location) {
	given := []string{at.Node.Text}
	if at.Node.Kind == document.List {
		given = r.texts(at)
	}
	if r.set.isOld() && len(given) == 1 && given[0] == "file" { // of 2.0: anything
		return
	}
	for _, one := range kinds {
		if slices.Contains(given, one) {
			r.into.types = append(r.into.types, one)
		}
	}
	if len(r.into.types) != len(given) || len(given) == 0 {
		r.fail(at, "one of "+strings.Join(kinds, ", ")+", or a list of these")
	}
}

func (r *reader) enum(at Location) {
	if at.Node.Kind != document.List {
		r.fail(at, "a list")
		return
	}
	set := &valueSet{list: at.Node.Items(), known: map[string]bool{}}
	for _, one := range set.list {
		set.known[canonical(one)] = true
	}
	r.into.values = set
}

func (r *reader) properties(at Location) {
	r.into.properties = make(map[string]*keywords, len(at.Node.Members()))
	r.named(at, func(name string, one *keywords) {
		if r.into.properties[name] == nil {
			r.into.names = append(r.into.names, name)
		}
		r.into.properties[name] = one
	})
}

func (r *reader) patternProperties(at Location) {
	r.named(at, func(name string, one *keywords) {
		r.into.patternProperties = append(r.into.patternProperties,
			patternProperty{r.pattern(at, document.NewText(name)), one})
	})
}

func (r *reader) additionalProperties(at Location) {
	if r.into.draft == draft4 && at.Node.Kind == document.Boolean {
		yes := isTrue(at.Node)
		r.into.additionalProperties = &keywords{at: at, resource: r.in, draft: r.into.draft, always: &yes}
		return
	}
	r.into.additionalProperties = r.schema(at)
}

func (r *reader) required(at Location) {
	switch {
	case at.Node.Kind == document.List:
		r.into.required = r.texts(at)
	case r.in == plain && at.Node.Kind == document.Boolean: // of a parameter of 2.0, or of draft 3
	default:
		r.fail(at, "a list of texts")
	}
}

// dependencies reads what a member asks for: other members, or what the whole fits.
func (r *reader) dependencies(at Location) {
	if at.Node.Kind != document.Object {
		r.fail(at, "an object")
		return
	}
	for _, m := range at.Node.Members() {
		one, below := dependency{name: m.Key}, at.Member(m)
		if m.Value.Kind == document.List {
			one.required = r.texts(below)
		} else {
			one.schema = r.schema(below)
		}
		r.into.dependent = append(r.into.dependent, one)
	}
}

// items reads what items are: all, or before 2020-12 as a list the first ones.
func (r *reader) items(at Location) {
	if at.Node.Kind == document.List && r.into.draft < draft2020 {
		if len(at.Node.Items()) > 0 {
			r.into.prefixItems = r.schemas(at)
		}
		return
	}
	r.into.items = r.schema(at)
}

// additionalItems are those after a list of items; without that they say nothing (2019-09, 9.3.1.2).
func (r *reader) additionalItems(at Location) {
	items := r.node.Get("items")
	if items == nil || items.Kind != document.List {
		return
	}
	if at.Node.Kind == document.Boolean {
		r.into.takesNoMore = !isTrue(at.Node)
		if !r.into.takesNoMore {
			yes := true
			r.into.items = &keywords{at: at, resource: r.in, draft: r.into.draft, always: &yes}
		}
		return
	}
	r.into.items = r.schema(at)
}

// exclusive reads a bound that is not part of what is allowed; in draft 4, and in descriptions before 3.1, it says
// so of the other bound (draft 4 Validation, 5.1.2.1).
func (r *reader) exclusive(at Location) {
	if r.into.draft == draft4 || r.set.isOld() && at.Node.Kind == document.Boolean {
		r.flag(at)
		return
	}
	if strings.HasSuffix(at.Pointer, "Minimum") {
		r.into.over = r.bound(at)
	} else {
		r.into.under = r.bound(at)
	}
}

func (r *reader) multipleOf(at Location) {
	if r.into.multipleOf = r.bound(at); r.into.multipleOf != nil && r.into.multipleOf.exact.Sign() <= 0 {
		r.fail(at, "over 0")
	}
}

func (r *reader) pattern(at Location, n *document.Node) *pattern {
	if n.Kind != document.Text {
		r.fail(at, "a regular expression")
		return nil
	}
	made, err := compilePattern(n.Text)
	if err != nil && r.err == nil {
		r.err = fmt.Errorf("the schema at %s breaks its own rules: %s: %w", r.into.at,
			strings.TrimPrefix(at.Pointer, r.into.at.Pointer+"/"), err)
	}
	return made
}

// exclusiveBounds moves the bounds that flags say are not allowed themselves.
func (r *reader) exclusiveBounds() {
	k := r.into
	if isTrue(r.node.Get("exclusiveMinimum")) && k.minimum != nil {
		k.over, k.minimum = k.minimum, nil
	}
	if isTrue(r.node.Get("exclusiveMaximum")) && k.maximum != nil {
		k.under, k.maximum = k.maximum, nil
	}
}

// mostExponent bounds the exponents of numbers: beyond it they are as large, or as small, as it says.
const mostExponent = 2_000

// rational is the exact value of a number.
func rational(n *document.Node) (*big.Rat, bool) {
	if n.Kind != document.Number && (n.Kind != document.Untyped || !document.IsNumber(n.Text)) {
		return nil, false
	}
	text := n.Text
	if isExtreme(text) {
		at := strings.IndexAny(text, "eE")
		sign := map[bool]string{true: "-", false: ""}[strings.HasPrefix(text[at+1:], "-")]
		text = text[:at+1] + sign + strconv.Itoa(mostExponent)
	}
	return new(big.Rat).SetString(text)
}

// isExtreme says whether the exponent of a number is beyond mostExponent.
func isExtreme(number string) bool {
	at := strings.IndexAny(number, "eE")
	if at < 0 {
		return false
	}
	exponent, err := strconv.Atoi(number[at+1:])
	return err != nil || exponent > mostExponent || exponent < -mostExponent
}
