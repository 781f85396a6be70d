package fields_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/fields"
	"testbench/internal/path"
	"testbench/internal/rule"
	"testbench/internal/yamlfile"
)

// answer is one of many answers of the same service.
func answer(r *rand.Rand, n int) *document.Node {
	text := func(s string) *document.Node { return document.NewText(s) }
	lots := document.NewList()
	for i := range 3 + r.IntN(5) {
		lot := document.NewObject().Set("id", text(fmt.Sprintf("L-%d", 1000*n+i))).
			Set("grade", text([]string{"A", "B", "C"}[r.IntN(3)])).
			Set("moisture", document.NewNumber(fmt.Sprintf("%d.%d", 14+r.IntN(6), r.IntN(10)))).
			Set("barrels", document.NewNumber(fmt.Sprint(1+r.IntN(4)))).
			Set("harvested", text(fmt.Sprintf("2026-%02d-%02d", 1+r.IntN(12), 1+r.IntN(28)))).
			Set("organic", document.NewBoolean(r.IntN(2) == 0))
		if r.IntN(3) > 0 {
			lot.Set("note", text("a note: "+fmt.Sprint(r.IntN(1000))))
		}
		lots.AppendItems(lot)
	}
	remarks := document.NewList()
	for i := range r.IntN(3) {
		remarks.AppendItems(document.NewObject().Set("text", text(fmt.Sprint("remark ", i))).Set("seen",
			document.NewList()))
	}
	root := document.NewObject()
	switch r.IntN(3) {
	case 0:
		root.Set("transport", document.NewObject().Set("driver",
			document.NewObject().Set("name", text([]string{"Ansel", "Della"}[r.IntN(2)]))))
	case 1:
		root.Set("transport", &document.Node{Kind: document.Null})
	}
	return root.Set("remarks", remarks).Set("depot", text("not north: #1")).Set("version", text("2")).Set("at",
		text(fmt.Sprintf("2026-11-23T08:%02d:00Z", r.IntN(60)))).
		Set("lots", lots).Set("total", document.NewNumber(fmt.Sprint(len(lots.Items())))).Set("page",
		document.NewObject().Set("number", document.NewNumber("1")).Set("next", &document.Node{Kind: document.Null}))
}

// holds says whether all proposals hold for an answer.
func holds(t *testing.T, proposals []fields.Proposal, root *document.Node) (bool, string) {
	t.Helper()
	roots := path.Roots{Answer: root}
	for _, p := range proposals {
		compiled, err := path.Compile(p.Path)
		require.NoError(t, err, p.Path)
		var parts []*rule.Rule
		for _, text := range p.Rules {
			parsed, err := rule.Parse(text, false)
			require.NoError(t, err, text)
			parts = append(parts, parsed)
		}
		found, err := compiled.Find(roots, nil)
		require.NoError(t, err)
		verdict, err := rule.AllOf(parts).Judge(found, roots, nil) // as a step has them
		require.NoError(t, err)
		if !verdict.Passed {
			return false, p.Path + ": " + verdict.Expected + ", got " + verdict.Got
		}
	}
	return true, ""
}

// mutations are what goes wrong with answers.
var mutations = []struct {
	name string
	do   func(r *rand.Rand, root, lot *document.Node)
}{
	{"a field is gone", func(r *rand.Rand, _, lot *document.Node) { lot.SetMembers(lot.Members()[1:]) }},
	{"a number is a text", func(_ *rand.Rand, _, lot *document.Node) { lot.Set("barrels", document.NewText("two")) }},
	{"a number is far out", func(_ *rand.Rand, _, lot *document.Node) {
		lot.Set("moisture", document.NewNumber("99.5"))
	}},
	{"a number is below nothing", func(_ *rand.Rand, _, lot *document.Node) {
		lot.Set("barrels", document.NewNumber("-1"))
	}},
	{"a word is unknown", func(_ *rand.Rand, _, lot *document.Node) { lot.Set("grade", document.NewText("D")) }},
	{"a date is none", func(_ *rand.Rand, _, lot *document.Node) {
		lot.Set("harvested", document.NewText("23.11.2026"))
	}},
	{"what is constant changed", func(_ *rand.Rand, root, _ *document.Node) {
		root.Set("depot", document.NewText("south"))
	}},
	{"an id is there twice", func(_ *rand.Rand, root, lot *document.Node) {
		root.Get("lots").Items()[0].Set("id", lot.Get("id"))
	}},
	{"a list is empty", func(_ *rand.Rand, root, _ *document.Node) { root.Set("lots", document.NewList()) }},
	{"a list is an object", func(_ *rand.Rand, root, _ *document.Node) { root.Set("lots", document.NewObject()) }},
	{"null found where a value is expected", func(_ *rand.Rand, _, lot *document.Node) {
		lot.Set("organic", &document.Node{Kind: document.Null})
	}},
	{"a whole part is gone", func(_ *rand.Rand, root, _ *document.Node) {
		root.SetMembers(root.Members()[:len(root.Members())-1])
	}},
	{"a moment is none", func(_ *rand.Rand, root, _ *document.Node) { root.Set("at", document.NewText("today")) }},
	{"a number has a fraction", func(_ *rand.Rand, _, lot *document.Node) {
		lot.Set("barrels", document.NewNumber("1.5"))
	}},
	{"a free text is another one", func(_ *rand.Rand, _, lot *document.Node) {
		lot.Set("note", document.NewText("anything"))
	}},
}

// Rules from 20 answers hold on all of them and on more of the kind, and of what can go
// wrong at least nine in ten fail.
func TestPropose(t *testing.T) {
	r := rand.New(rand.NewPCG(20, 9))
	g := fields.NewProposer(func(string) bool { return false })
	var answers []*document.Node
	for n := range 20 {
		answers = append(answers, answer(r, n))
		err := g.Add(strings.NewReader(document.WriteJSON(answers[n], document.Style{})), "application/json")
		require.NoError(t, err)
	}
	proposals := g.Propose()
	for _, root := range answers {
		ok, why := holds(t, proposals, root)
		assert.True(t, ok, why)
	}
	caught, all := 0, 0
	var missed []string
	for n := range 300 {
		root := answer(r, 100+n)
		m := mutations[n%len(mutations)]
		items := root.Get("lots").Items()
		m.do(r, root, items[1+r.IntN(len(items)-1)])
		all++
		if ok, _ := holds(t, proposals, root); !ok {
			caught++
		} else {
			missed = append(missed, m.name)
		}
	}
	assert.GreaterOrEqual(t, caught*10, all*9, "%v", missed)
	text := fields.AsRules(proposals)
	for _, says := range []string{
		"depot: \"equals \\\"not north: #1\\\"\"\n", "lots:\n  - is list\n  - count between 1 and ",
		"lots[*].grade: one of \"A\" or \"B\" or \"C\"\n", "  - is unique\n", "lots[*].note: optional is text\n",
		"version: equals \"2\"\n", "page.next: is null\n", "at: is datetime\n",
	} {
		assert.Contains(t, text, says)
	}
}

// settled is an answer of a service that says null where it has nothing to say.
func settled(root *document.Node) *document.Node {
	if root.Get("transport") == nil {
		root.Set("transport", &document.Node{Kind: document.Null})
	}
	return root
}

// Rules from four answers, one of which has an empty list, raise no false alarm on ten further good ones, and
// notice nine of ten that were changed.
func TestProposeOfFour(t *testing.T) {
	caught, all, alarms, alarming, further := 0, 0, 0, 0, 0
	missed := map[string]int{}
	for seed := range uint64(50) {
		r := rand.New(rand.NewPCG(seed, 4))
		p := fields.NewProposer(func(string) bool { return false })
		for n := range 4 {
			one := settled(answer(r, n))
			if n == 1 {
				one.Set("remarks", document.NewList()).Set("transport", &document.Node{Kind: document.Null})
			}
			if n == 2 {
				one.Set("transport", document.NewObject().Set("driver", document.NewObject().Set("name", document.NewText("Ida"))))
			}
			p.Tree(one)
		}
		proposals := p.Propose()
		before := alarms
		for n := range 10 {
			further++
			if ok, why := holds(t, proposals, settled(answer(r, 100+n))); !ok {
				alarms++
				t.Log(why)
			}
		}
		if alarms > before {
			alarming++
		}
		for n := range 40 {
			root := settled(answer(r, 200+n))
			m := mutations[n%len(mutations)]
			items := root.Get("lots").Items()
			m.do(r, root, items[1+r.IntN(len(items)-1)])
			all++
			if ok, _ := holds(t, proposals, root); ok {
				missed[m.name]++
			} else {
				caught++
			}
		}
	}
	t.Logf("noticed %d of %d, false alarms %d of %d, missed %v", caught, all, alarms, further, missed)
	assert.GreaterOrEqual(t, caught*10, all*9, "%v", missed)
	assert.LessOrEqual(t, alarming, 1, "of 50 fours of answers: one is the same in all four by chance; %d of %d", alarms, further)
}

// The same answer again is not a reason to take its values for all that there are, and one
// number leaves room on both sides.
func TestProposeOfTheSameTwice(t *testing.T) {
	g := fields.NewProposer(func(string) bool { return false })
	for range 4 {
		err := g.Add(strings.NewReader(
			`{"lots": [{"id": "L-1", "keeper": "Ansel"}, {"id": "L-2", "keeper": "Della"}], "at": 1}`),
			"application/json")
		require.NoError(t, err)
	}
	assert.Equal(t, "lots:\n  - is list\n  - count 2\nlots[*].id: is text\nlots[*].keeper: is text\nat: equals 1\n",
		fields.AsRules(g.Propose()))
	g = fields.NewProposer(func(string) bool { return false })
	err := g.Add(strings.NewReader(`{"page": 2, "kilos": 7.25, "none": 0}`), "application/json")
	require.NoError(t, err)
	assert.Equal(t, `page:
  - is integer
  - between 1 and 3
kilos:
  - is number
  - between 5.80 and 8.70
none:
  - is integer
  - between 0 and 1
`, fields.AsRules(g.Propose()))
}

// What is constant is written so that it holds, whatever signs are in it.
func TestProposeOddTexts(t *testing.T) {
	for contentType, text := range map[string]string{
		"application/json": `{"a": "${x} it", "b": " lead", "c": "say \"hi\" or go", "d": "A or B", "e": "tab\there", "f": "é  x: #1", "g": "", "h": true, "i": null, "j": 1.50, "k": "back\\slash\n", "m": "5", "n": "true"}`,
		"application/xml":  `<r a="A or B"><b>say "hi": ${x}</b><c> lead </c><d/><e>17.40</e><f>a-1.b:c</f><g>equals x</g><h>true</h></r>`,
	} {
		g := fields.NewProposer(func(string) bool { return false })
		for range 2 {
			err := g.Add(strings.NewReader(text), contentType)
			require.NoError(t, err)
		}
		root, _, err := document.Read(contentType, []byte(text))
		require.NoError(t, err)
		proposals := g.Propose()
		ok, why := holds(t, proposals, root)
		assert.True(t, ok, why)
		assert.Greater(t, len(proposals), 7)
		// They are read of the file as they were written.
		file := yamlfile.Read("x.yaml", []byte(fields.AsRules(proposals)))
		require.Empty(t, file.Problems)
		for i, p := range proposals {
			assert.Equal(t, p.Path, file.Root.Entries[i].Key.Text)
			if len(p.Rules) == 1 {
				assert.Equal(t, p.Rules[0], file.Root.Entries[i].Value.Text)
			}
		}
	}
}
