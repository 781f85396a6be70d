//go:build peers

package xsd_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/schema"
	"testbench/internal/xsd"
	"testbench/internal/xsd/instance"
)

// author makes schemas at random, and documents that fit them or nearly do.
type author struct {
	*rand.Rand
	globals strings.Builder // types, groups and elements that are beside the one asked for
	names   int
}

// content is a content model with a way to write what fits it.
type content struct {
	schema string
	write  func() []*tag
}

// tag is an element of a document.
type tag struct {
	name, text string
	attributes map[string]string
	inner      []*tag
}

func (t *tag) String() string {
	var out strings.Builder
	fmt.Fprintf(&out, "<%s", t.name)
	for _, name := range slices.Sorted(keysOf(t.attributes)) {
		fmt.Fprintf(&out, " %s=%q", name, t.attributes[name])
	}
	out.WriteString(">" + t.text)
	for _, one := range t.inner {
		out.WriteString(one.String())
	}
	fmt.Fprintf(&out, "</%s>", t.name)
	return out.String()
}

func keysOf(m map[string]string) func(func(string) bool) {
	return func(yield func(string) bool) {
		for k := range m {
			if !yield(k) {
				return
			}
		}
	}
}

func (a *author) of(words ...string) string { return words[a.IntN(len(words))] }
func (a *author) often() bool               { return a.IntN(4) > 0 }
func (a *author) rarely() bool              { return a.IntN(4) == 0 }

// name is a new one, or rarely one of a few, which brings models that are not deterministic.
func (a *author) name() string {
	if a.IntN(12) == 0 {
		return a.of("a", "b")
	}
	a.names++
	return fmt.Sprintf("e%d", a.names)
}

// simple are simple types with texts that they take.
var simple = []struct{ name, texts string }{
	{"xs:string", "x|a b|"},
	{"xs:int", "1|-5|2147483647"},
	{"xs:boolean", "true|0"},
	{"xs:date", "2026-11-26|2024-02-29Z"},
	{"xs:decimal", "1.50|-.5"},
	{"xs:token", "a b|x"},
	{"t:grade", "A|B"},
	{"t:lots", "L-1 L-2|L-9"},
	{"t:either", "7|A"},
	{"xs:anyURI", "urn:x|a/b"},
	{"t:short", "ab|abc"},
	{"xs:NMTOKENS", "a b|c"},
}

const simpleTypes = `<xs:simpleType name="grade"><xs:restriction base="xs:string"><xs:enumeration value="A"/><xs:enumeration value="B"/></xs:restriction></xs:simpleType>` +
	`<xs:simpleType name="lot"><xs:restriction base="xs:token"><xs:pattern value="L-[0-9]+"/></xs:restriction></xs:simpleType>` +
	`<xs:simpleType name="lots"><xs:list itemType="t:lot"/></xs:simpleType><xs:simpleType name="either"><xs:union memberTypes="xs:int t:grade"/></xs:simpleType>` +
	`<xs:simpleType name="short"><xs:restriction base="xs:string"><xs:minLength value="2"/><xs:maxLength value="3"/></xs:restriction></xs:simpleType>`

// occurs gives bounds and how often something is to be written.
func (a *author) occurs() (text string, times func() int) {
	least := a.IntN(3)
	most := least + a.IntN(3)
	if a.often() {
		least, most = a.IntN(2), 1
	}
	text = fmt.Sprintf(` minOccurs="%d" maxOccurs="%d"`, least, max(most, 1))
	if a.rarely() {
		text = fmt.Sprintf(` minOccurs="%d" maxOccurs="unbounded"`, least)
		most = least + 3
	}
	return text, func() int { return least + a.IntN(max(most, 1)-min(least, max(most, 1))+1) }
}

func (a *author) element(depth int) content {
	name := a.name()
	bounds, times := a.occurs()
	repeat := func(one func() *tag) func() []*tag {
		return func() (all []*tag) {
			for range times() {
				all = append(all, one())
			}
			return all
		}
	}
	if depth > 2 || a.often() {
		kind := simple[a.IntN(len(simple))]
		return content{fmt.Sprintf(`<xs:element name="%s" type="%s"%s/>`, name, kind.name, bounds), repeat(func() *tag {
			return &tag{name: "t:" + name, text: a.of(strings.Split(kind.texts, "|")...)}
		})}
	}
	kind := a.complex(depth + 1)
	if a.rarely() { // a head with a member that stands for it
		a.names++
		head, member := fmt.Sprintf("h%d", a.names), fmt.Sprintf("m%d", a.names)
		fmt.Fprintf(&a.globals,
			`<xs:complexType name="%s">%s</xs:complexType><xs:element name="%s" type="t:%s"/><xs:element name="%s" substitutionGroup="t:%s"/>`, head, kind.schema, head, head, member, head)
		return content{fmt.Sprintf(`<xs:element ref="t:%s"%s/>`, head, bounds), repeat(func() *tag {
			one := kind.write()[0]
			one.name = "t:" + a.of(head, member)
			return one
		})}
	}
	return content{fmt.Sprintf(`<xs:element name="%s"%s><xs:complexType>%s</xs:complexType></xs:element>`, name, bounds,
		kind.schema), repeat(func() *tag {
		one := kind.write()[0]
		one.name = "t:" + name
		return one
	})}
}

// particle is an element, a group of particles, or a wildcard.
func (a *author) particle(depth int) content {
	switch a.IntN(6) {
	case 0:
		return a.group(depth+1, "sequence")
	case 1:
		return a.group(depth+1, "choice")
	case 2:
		if a.rarely() {
			spaces := a.of("##other", "##any", "urn:o urn:p", "##targetNamespace", "##local")
			return content{fmt.Sprintf(`<xs:any namespace="%s" processContents="%s" minOccurs="0"/>`, spaces,
				a.of("lax", "skip", "strict")), func() []*tag {
				return []*tag{{name: a.of("o:x", "p:y", "none", "t:free")}}
			}}
		}
	}
	return a.element(depth)
}

func (a *author) group(depth int, kind string) content {
	bounds, times := a.occurs()
	var parts []content
	var schema strings.Builder
	for range 1 + a.IntN(3) {
		part := a.element(depth)
		if depth < 3 {
			part = a.particle(depth)
		}
		parts = append(parts, part)
		schema.WriteString(part.schema)
	}
	text := fmt.Sprintf(`<xs:%s%s>%s</xs:%s>`, kind, bounds, schema.String(), kind)
	if a.rarely() {
		a.names++
		fmt.Fprintf(&a.globals, `<xs:group name="g%d"><xs:%s>%s</xs:%s></xs:group>`, a.names, kind, schema.String(),
			kind)
		text = fmt.Sprintf(`<xs:group ref="t:g%d"%s/>`, a.names, bounds)
	}
	return content{text, func() (all []*tag) {
		for range times() {
			if kind == "choice" {
				all = append(all, parts[a.IntN(len(parts))].write()...)
				continue
			}
			for _, part := range parts {
				all = append(all, part.write()...)
			}
		}
		return all
	}}
}

// all is a group of elements in any order.
func (a *author) all(depth int) content {
	var parts []content
	var schema strings.Builder
	for range 1 + a.IntN(3) {
		name, kind := a.name(), simple[a.IntN(len(simple))]
		least := a.IntN(2)
		fmt.Fprintf(&schema, `<xs:element name="%s" type="%s" minOccurs="%d"/>`, name, kind.name, least)
		parts = append(parts, content{write: func() []*tag {
			if least == 0 && a.rarely() {
				return nil
			}
			return []*tag{{name: "t:" + name, text: a.of(strings.Split(kind.texts, "|")...)}}
		}})
	}
	return content{`<xs:all>` + schema.String() + `</xs:all>`, func() (all []*tag) {
		for _, i := range a.Perm(len(parts)) {
			all = append(all, parts[i].write()...)
		}
		return all
	}}
}

// attributes are declarations, a group of them, and a wildcard.
func (a *author) attributes() (schema string, write func(*tag)) {
	var out strings.Builder
	var each []func(*tag)
	declare := func() string {
		a.names++
		name, kind, use := fmt.Sprintf("a%d", a.names), simple[a.IntN(len(simple))], a.of("optional", "required")
		each = append(each, func(t *tag) {
			if use == "required" || a.often() {
				t.attributes[name] = a.of(strings.Split(kind.texts, "|")...)
			}
		})
		return fmt.Sprintf(`<xs:attribute name="%s" type="%s" use="%s"/>`, name, kind.name, use)
	}
	wildcard := func() string {
		if a.often() {
			return ""
		}
		each = append(each, func(t *tag) {
			if a.rarely() {
				t.attributes[a.of("o:x", "p:y", "free")] = "1"
			}
		})
		return fmt.Sprintf(`<xs:anyAttribute namespace="%s" processContents="%s"/>`,
			a.of("##other", "##any", "urn:o", "urn:o urn:p ##local", "##local"), a.of("lax", "skip"))
	}
	for range a.IntN(3) {
		out.WriteString(declare())
	}
	for range a.IntN(3) {
		if a.rarely() {
			inner := declare() + wildcard()
			a.names++
			fmt.Fprintf(&a.globals, `<xs:attributeGroup name="s%d">%s</xs:attributeGroup>`, a.names, inner)
			fmt.Fprintf(&out, `<xs:attributeGroup ref="t:s%d"/>`, a.names)
		}
	}
	out.WriteString(wildcard())
	return out.String(), func(t *tag) {
		for _, one := range each {
			one(t)
		}
	}
}

// complex is the inside of a complex type; what is written is one element without a name.
func (a *author) complex(depth int) content {
	attributes, decorate := a.attributes()
	if a.IntN(5) == 0 {
		kind := simple[a.IntN(len(simple))]
		return content{fmt.Sprintf(`<xs:simpleContent><xs:extension base="%s">%s</xs:extension></xs:simpleContent>`,
			kind.name, attributes), func() []*tag {
			one := &tag{attributes: map[string]string{}, text: a.of(strings.Split(kind.texts, "|")...)}
			decorate(one)
			return []*tag{one}
		}}
	}
	model := a.group(depth, a.of("sequence", "choice"))
	if a.IntN(5) == 0 {
		model = a.all(depth)
	}
	write := func() []*tag {
		one := &tag{attributes: map[string]string{}, inner: model.write()}
		decorate(one)
		return []*tag{one}
	}
	if a.IntN(4) > 0 || strings.HasPrefix(model.schema, "<xs:all") {
		return content{model.schema + attributes, write}
	}
	// An extension has the content of its base before its own.
	more, also := a.group(depth, "sequence"), ""
	also, further := a.attributes()
	a.names++
	fmt.Fprintf(&a.globals, `<xs:complexType name="c%d">%s%s</xs:complexType>`, a.names, model.schema, attributes)
	return content{fmt.Sprintf(`<xs:complexContent><xs:extension base="t:c%d">%s%s</xs:extension></xs:complexContent>`,
		a.names, more.schema, also), func() []*tag {
		one := write()[0]
		one.inner = append(one.inner, more.write()...)
		further(one)
		return []*tag{one}
	}}
}

// spoil changes one thing of a document.
func (a *author) spoil(t *tag) {
	for len(t.inner) > 0 && a.often() {
		t = t.inner[a.IntN(len(t.inner))]
	}
	at := 0
	if len(t.inner) > 0 {
		at = a.IntN(len(t.inner))
	}
	switch a.IntN(7) {
	case 0:
		if len(t.inner) > 0 {
			t.inner = slices.Delete(t.inner, at, at+1)
		}
	case 1:
		if len(t.inner) > 0 {
			t.inner = slices.Insert(t.inner, at, t.inner[at])
		}
	case 2:
		if len(t.inner) > 1 {
			t.inner[0], t.inner[at] = t.inner[at], t.inner[0]
		}
	case 3:
		t.inner = slices.Insert(t.inner, at, &tag{name: a.of("t:strange", "o:x", "none", "t:free", "t:e1", "t:e3")})
	case 4:
		t.text = a.of("x", "", "7", "A", "L-1", "2026-11-26", "a b")
	case 5:
		if t.attributes == nil {
			t.attributes = map[string]string{}
		}
		t.attributes[a.of("o:x", "strange", "a1", "a3", "a5", "xml:lang")] = a.of("1", "A", "x")
	case 6:
		for name := range t.attributes {
			delete(t.attributes, name)
			break
		}
	}
}

// judge is a program that holds documents against schemas with the validator of the JDK: it
// is told of folders, and says of each schema or document in them whether it is right.
const judge = `import java.io.File;
import java.util.Arrays;
import javax.xml.transform.stream.StreamSource;
import javax.xml.validation.Schema;
import javax.xml.validation.SchemaFactory;

class Judge {
	static String said(Exception e) { return e.getMessage().replaceAll("\\s+", " "); }

	public static void main(String[] folders) {
		for (String folder : folders) {
			Schema schema;
			try {
				schema = SchemaFactory.newInstance("http://www.w3.org/2001/XMLSchema").newSchema(new File(folder, "schema.xsd"));
			} catch (Exception e) {
				System.out.println(folder + " refused " + said(e));
				continue;
			}
			for (File file : new File(folder).listFiles()) {
				if (!file.getName().endsWith(".xml")) continue;
				try {
					schema.newValidator().validate(new StreamSource(file));
					System.out.println(file + " valid");
				} catch (Exception e) {
					System.out.println(file + " wrong " + said(e));
				}
			}
		}
	}
}`

// trial is schemas with documents that the JDK and xmllint are to judge.
type trial struct {
	t     *testing.T
	dir   string
	args  []string // of the JDK's judge
	lint  string   // what xmllint said
	texts map[string]string
}

// passed begins the names of documents that must be valid.
const passed = "passed-"

func newTrial(t *testing.T) *trial {
	tr := &trial{t: t, dir: t.TempDir(), texts: map[string]string{}}
	program := filepath.Join(tr.dir, "Judge.java")
	require.NoError(t, os.WriteFile(program, []byte(judge), 0o600))
	tr.args = []string{program}
	return tr
}

// add takes a schema with documents; of those of mustHold it is known that they are valid.
func (tr *trial) add(schema string, documents []string, mustHold ...string) {
	folder := filepath.Join(tr.dir, fmt.Sprint(len(tr.args)))
	require.NoError(tr.t, os.Mkdir(folder, 0o700))
	tr.args = append(tr.args, folder)
	write := func(name, text string) string {
		file := filepath.Join(folder, name)
		require.NoError(tr.t, os.WriteFile(file, []byte(text), 0o600))
		tr.texts[file] = text
		return file
	}
	checked := []string{"--noout", "--schema", write("schema.xsd", schema)}
	for i, document := range documents {
		checked = append(checked, write(fmt.Sprintf("%d.xml", i), document))
	}
	for i, document := range mustHold {
		checked = append(checked, write(fmt.Sprintf("%s%d.xml", passed, i), document))
	}
	// With some models libxml2 takes minutes.
	ctx, cancel := context.WithTimeout(tr.t.Context(), 5*time.Second)
	defer cancel()
	out, _ := exec.CommandContext(ctx, "xmllint", checked...).CombinedOutput()
	tr.lint += string(out)
}

// judge holds what is judged here against what the JDK says. Where xmllint alone differs, it
// is the one that is taken to be wrong.
func (tr *trial) judge() (judged, valid, alone int) {
	t := tr.t
	out, err := exec.Command("java", tr.args...).CombinedOutput()
	require.NoError(t, err, string(out))
	refused := 0
	loaded := map[string]*xsd.Schema{}
	for line := range strings.Lines(string(out)) {
		file, verdict, _ := strings.Cut(strings.TrimSpace(line), " ")
		folder := filepath.Dir(file)
		if strings.HasPrefix(verdict, "refused") {
			folder = file
		}
		schema := tr.texts[filepath.Join(folder, "schema.xsd")]
		if loaded[folder] == nil {
			l := &xsd.Loader{}
			require.NoError(t, l.AddText("case.xsd", []byte(schema)), schema)
			one, err := l.Schema()
			if strings.HasPrefix(verdict, "refused") {
				// What a group that nothing refers to holds is not looked at.
				if refused++; err == nil && len(one.Warnings()) == 0 && !strings.Contains(schema, "<xs:group name=") {
					t.Errorf("the JDK says %s, and nothing is said here:\n%s", verdict, schema)
				}
				continue
			}
			require.NoError(t, err, schema)
			loaded[folder] = one
		}
		faults, err := xsd.FaultsOf(loaded[folder], tr.texts[file])
		require.NoError(t, err)
		judged++
		isValid := verdict == "valid"
		if isValid {
			valid++
		}
		if isValid != (len(faults) == 0) {
			t.Errorf("%s, says the JDK; here it is %q:\n%s\n%s", verdict, faults, tr.texts[file], schema)
		} else if !isValid && strings.HasPrefix(filepath.Base(file), passed) {
			t.Errorf("%s, says the JDK of what is drafted:\n%s\n%s", verdict, tr.texts[file], schema)
		} else if strings.Contains(tr.lint, file+" validates") != isValid {
			alone++
		}
	}
	t.Logf("%d documents judged, %d valid; %d schemas refused; xmllint alone differs %d times", judged, valid, refused,
		alone)
	return judged, valid, alone
}

// samples are what is drafted from a schema, with all that may be left out and without; of
// one that is refused there are none.
func samples(t *testing.T, text string) (documents []string) {
	l := &xsd.Loader{}
	require.NoError(t, l.AddText("case.xsd", []byte(text)))
	types, err := l.Schema()
	if err != nil {
		return nil
	}
	for _, optional := range []bool{false, true} {
		sample := instance.Sample(types, types.Element("urn:t", "v"), schema.SampleOptions{Optional: optional})
		resolveTypes(sample.Root)
		sample.Root.AppendAttributes(document.Attribute{
			Name:  document.Name{Prefix: "xmlns", Local: "t"},
			Value: "urn:t",
		})
		document.Declare(sample.Root)
		documents = append(documents, document.WriteXML(sample.Root, document.Style{}))
	}
	return documents
}

// Documents made at random are judged as the JDK judges them, and what is drafted is valid.
func TestRandomSchemas(t *testing.T) {
	tr := newTrial(t)
	const schemas, documents = 150, 24
	for seed := range uint64(schemas) {
		a := &author{Rand: rand.New(rand.NewPCG(seed, 1))}
		kind := a.complex(0)
		var instances []string
		for i := range documents {
			one := kind.write()[0]
			one.name = "t:v"
			for range i % 3 {
				a.spoil(one)
			}
			instances = append(instances,
				strings.Replace(one.String(), "<t:v", `<t:v xmlns:t="urn:t" xmlns:o="urn:o" xmlns:p="urn:p"`, 1))
		}
		schema := xsd.SchemaHead + simpleTypes + a.globals.String() +
			`<xs:element name="free" type="xs:int"/><xs:element name="v"><xs:complexType>` + kind.schema +
			`</xs:complexType></xs:element></xs:schema>`
		tr.add(schema, instances, samples(t, schema)...)
	}
	judged, valid, alone := tr.judge()
	require.Greater(t, judged, schemas*documents*3/4)
	require.Greater(t, valid, judged/4)
	require.Less(t, alone, judged/50)
}

// pattern is a regular expression of XML Schema with a text that is likely to match.
func (a *author) pattern(depth int) (source, text string) {
	for range 1 + a.IntN(3) {
		atom, match := a.atom(depth)
		least, quantifier := 1, ""
		switch a.IntN(8) {
		case 0:
			least, quantifier = a.IntN(2), "?"
		case 1:
			least, quantifier = a.IntN(3), "*"
		case 2:
			least, quantifier = 1+a.IntN(2), "+"
		case 3:
			least = 1 + a.IntN(2)
			quantifier = a.of(fmt.Sprintf("{%d}", least), fmt.Sprintf("{%d,}", least),
				fmt.Sprintf("{%d,%d}", least, least+1), fmt.Sprintf("{0,%d}", least))
		}
		source += atom + quantifier
		text += strings.Repeat(match, least)
	}
	if depth < 3 && a.IntN(5) == 0 {
		other, match := a.pattern(depth + 1)
		return source + "|" + other, a.of(text, match)
	}
	return source, text
}

func (a *author) atom(depth int) (source, match string) {
	if depth < 3 && a.IntN(5) == 0 {
		inner, match := a.pattern(depth + 1)
		return "(" + inner + ")", match
	}
	all := [][2]string{
		{"a", "a"},
		{"b", "b"},
		{"1", "1"},
		{"-", "-"},
		{"é", "é"},
		{`\.`, "."},
		{`\-`, "-"},
		{`\^`, "^"},
		{"^", "^"},
		{"$", "$"},
		{".", "c"},
		{`\d`, "7"},
		{`\D`, "x"},
		{`\s`, " "},
		{`\S`, "y"},
		{`\w`, "w"},
		{`\W`, "."},
		{`\i`, "_"},
		{`\I`, "1"},
		{`\c`, "-"},
		{`\C`, "+"},
		{`\p{L}`, "é"},
		{`\P{L}`, "1"},
		{`\p{Lu}`, "A"},
		{`\p{Nd}`, "5"},
		{`\p{IsBasicLatin}`, "a"},
		{`\P{IsBasicLatin}`, "漢"},
		{`\p{IsLatin-1Supplement}`, "é"},
		{`\p{P}`, "."},
		{`\p{Sm}`, "+"},
		{"[a-c]", "b"},
		{"[^a-c]", "d"},
		{"[a-z-[aeiou]]", "b"},
		{`[\d\s]`, "3"},
		{`[^\d]`, "a"},
		{"[-a]", "-"},
		{"[a-]", "-"},
		{`[\p{L}-[a-z]]`, "A"},
		{`[\w-[\d]]`, "x"},
		{`[^a-z-[q]]`, "A"},
		{`[.+*]`, "+"},
		{`[\[\]]`, "]"},
		{"漢", "漢"},
		{`[+--]`, ","},
		{`\n`, "\n"},
		{`\t`, "\t"},
	}
	one := all[a.IntN(len(all))]
	return one[0], one[1]
}

// Patterns made at random match what the JDK says they match.
func TestRandomPatterns(t *testing.T) {
	tr := newTrial(t)
	escape := strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;", "\t", "&#9;", "\n", "&#10;")
	const patterns, texts = 240, 12
	letters := []rune("ab1-é.^$c7x y_+A5漢,]d\n\t")
	for seed := range uint64(patterns) {
		a := &author{Rand: rand.New(rand.NewPCG(seed, 2))}
		source, match := a.pattern(0)
		var documents []string
		for i := range texts {
			text := []rune(match)
			if i > 1 && len(text) > 0 {
				text[a.IntN(len(text))] = letters[a.IntN(len(letters))]
			}
			if i%3 == 2 {
				text = append(text, letters[a.IntN(len(letters))])
			}
			documents = append(documents, `<t:v xmlns:t="urn:t">`+escape.Replace(string(text))+`</t:v>`)
		}
		tr.add(xsd.SchemaHead+`<xs:element name="v"><xs:simpleType><xs:restriction base="xs:string"><xs:pattern value="`+
			escape.Replace(source)+`"/></xs:restriction></xs:simpleType></xs:element></xs:schema>`, documents)
	}
	judged, valid, _ := tr.judge()
	require.Greater(t, judged, patterns*texts*3/4)
	require.Greater(t, valid, judged/8)
}

// builtIn are texts of the types that there are.
var builtIn = map[string]string{
	"boolean": "true|0", "decimal": "-12.50|.5|+7.|0", "integer": "-12|+7|007",
	"long": "9223372036854775807|-9223372036854775808", "int": "2147483647|-2147483648", "short": "32767|-32768",
	"byte":               "127|-128",
	"nonNegativeInteger": "0|-0|12", "positiveInteger": "1|+3", "negativeInteger": "-1", "nonPositiveInteger": "0|-4",
	"unsignedLong": "18446744073709551615|0", "unsignedInt": "4294967295", "unsignedShort": "65535",
	"unsignedByte": "255",
	"float":        "1.5E3|-INF|NaN|.5e-3|INF", "double": "-1.5e300|INF|0",
	"duration": "P1Y2M3DT4H5M6.7S|-P1M|PT0S|P400D",
	"dateTime": "2026-11-26T08:30:00Z|2024-02-29T24:00:00|-0044-03-15T00:00:00.5+14:00|2026-11-26T08:30:00-13:59",
	"date":     "2026-11-26|2024-02-29Z|12026-01-01|1900-02-28+01:00",
	"time":     "08:30:00|23:59:59.999Z|24:00:00|08:30:00+05:30", "gYear": "2026|-0044|12026Z",
	"gYearMonth": "2026-11|2026-01+01:00", "gMonth": "--11|--02Z", "gMonthDay": "--02-29|--11-30Z",
	"gDay":      "---31|---09+02:00",
	"hexBinary": "0aFF|", "base64Binary": "AAEC|AA==|AAE=|A A E C|", "anyURI": "urn:x|a b|http://h.example/%20?x=1#y|",
	"QName": "t:v|v", "Name": "a:b|_x|é-1", "NCName": "a-b|_x|é", "NMTOKEN": "-a:1|.b", "language": "de|en-GB|x-honey",
	"token": "a b|", "normalizedString": " a  b ", "string": "x|", "ID": "a-1|_b", "NMTOKENS": "a b|-1",
}

// Texts of the built-in types, and such that differ from one in a character, are judged as
// the JDK judges them.
func TestRandomValues(t *testing.T) {
	tr := newTrial(t)
	letters := []rune("0123456789+-.:TZPYMDHSEeINFaA/= _é")
	seed := uint64(0)
	for _, name := range slices.Sorted(keysOf(builtIn)) {
		seed++
		a := &author{Rand: rand.New(rand.NewPCG(seed, 4))}
		var documents []string
		for _, text := range strings.Split(builtIn[name], "|") {
			for i := range 30 {
				changed := []rune(text)
				for range min(i, 1+i%2) {
					at := a.IntN(len(changed) + 1)
					switch a.IntN(3) {
					case 0:
						changed = slices.Insert(changed, at, letters[a.IntN(len(letters))])
					case 1:
						if at < len(changed) {
							changed[at] = letters[a.IntN(len(letters))]
						}
					case 2:
						if at < len(changed) {
							changed = slices.Delete(changed, at, at+1)
						}
					}
				}
				if name == "anyURI" && strings.HasSuffix(string(changed), ":") {
					continue // a scheme alone is an address by RFC 3986, and was none by RFC 2396
				}
				documents = append(documents, `<t:v xmlns:t="urn:t" xmlns:a="urn:a">`+string(changed)+`</t:v>`)
			}
		}
		tr.add(xsd.SchemaHead+`<xs:element name="v" type="xs:`+name+`"/></xs:schema>`, documents)
	}
	judged, valid, _ := tr.judge()
	require.Greater(t, judged, 2000)
	require.Greater(t, valid, judged/8)
}
