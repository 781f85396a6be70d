package value_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/value"
)

// scope knows a few names; hidden gathers what was made of secrets.
type scope struct{ hidden []string }

func (s *scope) Lookup(space, name string) (*document.Node, error) {
	switch space + "." + name {
	case ".a":
		return document.NewUntyped("x & \"y\""), nil
	case ".day":
		return document.NewUntyped("2026-01-31"), nil
	case ".moment":
		return document.NewText("2026-03-08T22:30:00.25+01:00"), nil
	case ".price":
		return document.NewNumber("2.345"), nil
	case ".packed":
		return document.NewText(`{"lots":[{"id":"L-1"}]}`), nil
	case ".lots":
		return document.ReadJSON([]byte(`[{"id":"L-1","kg":5},{"id":"L-2"}]`))
	case ".empty":
		return document.NewUntyped(""), nil
	case "row.Lot No.":
		return document.NewUntyped("7"), nil
	case "sealed.key":
		return &document.Node{Kind: document.Text, Text: "sealed-key", Secret: true}, nil
	case "sealed.pin":
		return &document.Node{Kind: document.Text, Text: "12?4", Secret: true}, nil
	}
	return nil, value.ErrNothing
}

func (s *scope) Hide(text string) { s.hidden = append(s.hidden, text) }

func TestText(t *testing.T) {
	cases := []struct {
		template string
		place    value.Escaping
		want     string
	}{
		{"plain", value.Raw, "plain"},
		{"$${a} ${a}", value.Raw, `${a} x & "y"`},
		{"${a}", value.Query, "x%20%26%20%22y%22"},
		{"${a}", value.Form, "x+%26+%22y%22"},
		{"${a}", value.PathSegment, "x%20&%20%22y%22"},
		{"${a}", value.JSONText, `x & \"y\"`},
		{"${a}", value.XMLText, `x &amp; "y"`},
		{"${a}", value.XMLAttribute, `x &amp; &quot;y&quot;`},
		{"${a | json}", value.JSONText, `"x & \"y\""`},
		{"${a | raw}", value.JSONText, `x & "y"`},
		{"${a|upper|base64}", value.Raw, "WCAmICJZIg=="},
		{"${row[\"Lot No.\"]}", value.Raw, "7"},
		{"${lots.0.id}-${lots[1].id}", value.Raw, "L-1-L-2"},
		{"${lots.0.kg}", value.JSONValue, "5"},
		{"${lots}", value.JSONValue, `[{"id":"L-1","kg":5},{"id":"L-2"}]`},
		{"${nothing | default x}${empty | default y}", value.Raw, "xy"},
		{`${nothing | default "a b"}`, value.Raw, "a b"},
		{"${day | add 1 months}", value.Raw, "2026-02-28"},
		{"${day | add 1 d}", value.Raw, "2026-02-01"},
		{"${day | add -1 years | format yy}", value.Raw, "25"},
		{"${day | add 90 min}", value.Raw, "2026-01-31T01:30:00"},
		{"${day | format d.M.yyyy}", value.Raw, "31.1.2026"},
		{"${day | format MMMM dd 'of' EEEE}", value.Raw, "January 31 of Saturday"},
		{"${moment | format dd.MM.yyyy HH:mm:ss.SSS XXX}", value.Raw, "08.03.2026 22:30:00.250 +01:00"},
		{"${moment | add 2 h}", value.Raw, "2026-03-09T00:30:00.25+01:00"},
		{"${price | number 2}", value.Raw, "2.35"},
		{"${price | number 5}", value.Raw, "2.34500"},
		{"${packed | parse json}", value.JSONValue, `{"lots":[{"id":"L-1"}]}`},
		{"${packed | base64 | parse base64 | parse json}", value.JSONValue, `{"lots":[{"id":"L-1"}]}`},
		{`${a | inside "& " "y"}`, value.Raw, `"`},
	}
	for _, c := range cases {
		t.Run(c.template, func(t *testing.T) {
			parsed, err := value.Parse(c.template)
			require.NoError(t, err)
			got, err := parsed.Text(&scope{}, c.place)
			require.NoError(t, err)
			assert.Equal(t, c.want, got.Sent)
			assert.Equal(t, c.want, got.Shown)
		})
	}
}

func TestParseErrors(t *testing.T) {
	cases := map[string]string{
		"${": "names nothing", "${}": "names nothing", "${a": "not closed", "${a b}": "is not allowed in a placeholder",
		"${a | uper}": `did you mean "upper"?`,
		"${a | add}":  "write | add 30 d", "${a | add 3 weeks}": "not a unit of time",
		"${day | format dQ}": "the letter Q means nothing", "${row}": "needs a name after it",
		"${a |}": "a filter's name is missing", `${a | default "x}`: "not closed", "${a.}": "missing after the dot",
		"${a[x]}": "between [ and ]", "${file:}": "names no file",
		"${1a}": "is not a name", "${a | number 200}": "0 to 100", "${a | inside x}": "inside",
	}
	for source, want := range cases {
		_, err := value.Parse(source)
		if assert.Error(t, err, source) {
			assert.Contains(t, err.Error(), want, source)
		}
	}
}

func TestBodies(t *testing.T) {
	fill := func(source string, format document.Format) string {
		parsed, err := value.ParseBody(source, format)
		require.NoError(t, err)
		got, err := parsed.Text(&scope{}, value.Raw)
		require.NoError(t, err)
		return got.Sent
	}
	assert.Equal(t, `{"a\"": "x & \"y\"", "b": 2.345}`, fill(`{"a\"": "${a}", "b": ${price}}`, document.JSON))
	assert.Equal(t, `<a b='x &amp; &quot;y&quot;'>x &amp; "y"<![CDATA[x & "y"]]><!-- c --></a>`,
		fill(`<a b='${a}'>${a}<![CDATA[${a}]]><!-- c --></a>`, document.XML))
	for _, source := range []string{"<${a}/>", "<a ${a}='x'/>", "<!-- ${a} -->", "<?x ${a}?>"} {
		_, err := value.ParseBody(source, document.XML)
		assert.Error(t, err, source)
	}
}

// Secrets go by origin: through filters, and into what is shown.
func TestSecretsAreFollowed(t *testing.T) {
	s := &scope{}
	parsed, err := value.Parse("key ${sealed.key | upper | hex} pin ${sealed.pin}")
	require.NoError(t, err)
	got, err := parsed.Text(s, value.Raw)
	require.NoError(t, err)
	assert.True(t, got.Secret)
	assert.Equal(t, "key 5345414c45442d4b4559 pin 12?4", got.Sent)
	assert.Equal(t, "key 5345414c45442d4b4559 pin [masked]", got.Shown, "the long one is found by the masker")
	assert.Contains(t, s.hidden, "5345414c45442d4b4559")
	node, err := parsed.Node(s, false)
	require.NoError(t, err)
	assert.True(t, node.Secret)
	pair := value.BasicPair(value.Literal("clerk"), parsed)
	basic, err := pair.Text(s, value.Raw)
	require.NoError(t, err)
	assert.True(t, basic.Secret)
}

func FuzzParse(f *testing.F) {
	for _, seed := range []string{
		"${a | upper}", "$${", "${row[\"x\"].0}", "${a | format dd 'x'}",
		"${a | add -3 months | default \"q\\\"\"}", "<a b='${a}'>", "{\"a\": ${a}}",
	} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, source string) {
		for _, format := range []document.Format{document.JSON, document.XML, document.Plain} {
			if parsed, err := value.ParseBody(source, format); err == nil {
				_, _ = parsed.Text(&scope{}, value.Raw)
			}
		}
		if parsed, err := value.ParseAddress(source); err == nil {
			_, _ = parsed.Text(&scope{}, value.Address)
		}
	})
}
