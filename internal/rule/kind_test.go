package rule_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/path"
	"testbench/internal/rule"
)

// Each kind knows its own and refuses what only looks like it.
func TestKinds(t *testing.T) {
	cases := []struct {
		kind string
		is   []string
		not  []string
	}{
		{
			"integer",
			[]string{"0", "-7", "12345678901234567890123", "1e3", "5.0"},
			[]string{"5.5", "007", "1_000", "five", ""},
		},
		{"number", []string{"0", "9", "-9.9", "-0.5", "1e-3"}, []string{".5", "5.", "NaN", "1,5", "+5"}},
		{"decimal 2", []string{"5", "5.5", "5.55", "-5.50"}, []string{"5.555", "5e1", "x"}},
		{"boolean", []string{"true", "false"}, []string{"yes", "1", "True", ""}},
		{
			"date",
			[]string{"2026-11-23", "2024-02-29", "1999-09-09", "2000-10-10"},
			[]string{"2026-02-29", "23.11.2026", "2026-11-23T00:00:00Z", " 2026-11-23"},
		},
		{
			"time",
			[]string{"08:30:00", "09:59:59", "00:00:00", "08:30:00.5", "08:30:00+01:00"},
			[]string{"8:30", "25:00:00", "08:30"},
		},
		{"datetime", []string{
			"2026-11-23T08:30:00Z", "2026-11-23T08:30:00.123+01:00", "2026-11-23T08:30:00",
			"2026-11-23T08:30",
		}, []string{"2026-11-23 08:30:00", "2026-11-23", "2026-13-01T00:00:00Z"}},
		{
			"duration",
			[]string{"PT5S", "P1DT2H", "-PT0.5S", "800 ms", "5 min", "2h", "9 s", "0 s", "PT9S"},
			[]string{"P", "PT", "5 weeks", "P1Y", "5"},
		},
		{
			"uuid",
			[]string{"6b1f2a5e-0b7c-4c1f-9d55-0d8f3a1b2c3d", "6B1F2A5E-0B7C-4C1F-9D55-0D8F3A1B2C3D"},
			[]string{
				"6b1f2a5e0b7c4c1f9d550d8f3a1b2c3d", "6b1f2a5e-0b7c-4c1f-9d55-0d8f3a1b2c3",
				"{6b1f2a5e-0b7c-4c1f-9d55-0d8f3a1b2c3d}",
			},
		},
		{
			"uri",
			[]string{"http://a.example/x?y", "urn:heatherfold:lab", "mailto:lab@heatherfold.example"},
			[]string{"/x", "a.example", "http://a b", "http:"},
		},
		{
			"email",
			[]string{"lab@heatherfold.example", "a.b+c@d.example"},
			[]string{"lab", "Lab <lab@heatherfold.example>", "@x.example", "a@"},
		},
		{
			"hostname",
			[]string{"heatherfold.example", "a", "x-1.example.", "AZaz09.example", strings.Repeat("a", 63)},
			[]string{
				"", "a[.example", "`.example", "a/b.example", strings.Repeat("a", 64), "-a.example", "a..b",
				"a_b.example", "ü.example",
			},
		},
		{"ipv4", []string{"127.0.0.1", "255.255.255.255"}, []string{"256.0.0.1", "127.1", "::1", "127.0.0.01"}},
		{"ipv6", []string{"::1", "2001:db8::7"}, []string{"127.0.0.1", "2001:db8", ":::"}},
		{"base64", []string{"aG9uZXk=", "aG9u\nZXk="}, []string{"aG9uZXk", "a-b_", ""}},
		{"hex", []string{"00ff", "ABCD"}, []string{"0", "xyz1", ""}},
		{"jwt", []string{"eyJhbGciOiJub25lIn0.e30."}, []string{"a.b.c", "e30.e30", "W10.e30."}},
		{"currency", []string{"EUR", "CHF", "JPY"}, []string{"eur", "EURO", "XYZW", "€"}},
		{"country", []string{"CH", "GB", "NZ"}, []string{"ch", "CHE", "XX1", "001"}},
		{"language", []string{"en", "de-CH", "zh-Hant"}, []string{"", "e", "english-please-now"}},
		{
			"iban",
			[]string{"GB82WEST12345698765432", "GB82 WEST 1234 5698 7654 32", "DE89370400440532013000"},
			[]string{"GB82WEST12345698765433", "GB82", "8282WEST12345698765432"},
		},
		{
			"gtin",
			[]string{"4006381333931", "96385074", "036000291452"},
			[]string{"4006381333932", "123", "400638133393a"},
		},
		{"text", []string{"", "x", "5"}, nil},
	}
	for _, c := range cases {
		parsed, err := rule.Parse("is "+c.kind, false)
		require.NoError(t, err, c.kind)
		judge := func(node *document.Node) bool {
			verdict, err := parsed.Judge(path.Selection{Matches: []path.Match{{Where: "x", Node: node}}}, path.Roots{},
				nil)
			require.NoError(t, err)
			return verdict.Passed
		}
		for _, text := range c.is {
			assert.True(t, judge(document.NewUntyped(text)), "%q is %s", text, c.kind)
		}
		for _, text := range c.not {
			assert.False(t, judge(document.NewUntyped(text)), "%q is not %s", text, c.kind)
		}
		assert.False(t, judge(&document.Node{Kind: document.Null}), "null is no %s", c.kind)
	}
	// A typed text is not a number, whatever it looks like; a typed number no text.
	for kind, nodes := range map[string][]*document.Node{
		"number": {document.NewText("5")}, "integer": {document.NewText("5")}, "boolean": {document.NewText("true")},
		"text": {document.NewNumber("5"), document.NewBoolean(true), document.NewList(), document.NewObject()},
		"date": {document.NewNumber("2026")}, "list": {document.NewObject()},
		"object": {document.NewList(), document.NewText("{}")},
	} {
		for _, node := range nodes {
			assert.False(t, rule.IsKind(kind, node), "%s %v", kind, node)
		}
	}
	assert.True(t, rule.IsKind("date", document.NewText("2026-11-23")))
	assert.True(t, rule.IsKind("date", document.NewUntyped("2026-11-23")))
	assert.False(t, rule.IsKind("nothing", document.NewText("")))
	assert.Len(t, rule.KindNames(), 25)
}

// What has an order is compared by what it is, not by how it is written.
func TestOrder(t *testing.T) {
	cases := []struct {
		value, rule string
		passed      bool
	}{
		{"10", "over 9", true},
		{"1e2", "at least 100", true},
		{"0.30000000000000000000000000000000001", "over 0.3", true},
		{"2026-11-23T10:00:00+02:00", "at most 2026-11-23T08:00:00Z", true},
		{"2026-11-23T10:00:00+02:00", "over 2026-11-23T07:59:59.999Z", true},
		{"2026-02-28", "under 2026-03-01", true},
		{"08:30:00", "between 08:00:00 and 09:00:00", true},
		{"1 min", "at most 60 s", true},
		{"PT1M", "about 59 s within 2 s", true},
		{"1500", "over 1.4 kB", true},
		{"2 kB", "under 1.96 KiB", true},
		{"1 MiB", "over 1 MB", true},
		{"100", "about 98 within 2 %", false},
		{"100", "about 98.1 within 2 %", true},
		{"-5", "about 0 within 5", true},
		{"A", "over 5", false},
		{"5", "over 1 s", false},
		{"2026-11-23", "over 2026-11-22T00:00:00", false},
		{"2026-11-23T00:00:00", "about 2026-11-23T00:00:01Z within 1 h", false},
		{"true", "over 0", false},
	}
	for _, c := range cases {
		parsed, err := rule.Parse(c.rule, false)
		require.NoError(t, err, c.rule)
		verdict, err := parsed.Judge(path.Selection{Matches: []path.Match{{
			Where: "x",
			Node:  document.NewUntyped(c.value),
		}}}, path.Roots{}, nil)
		require.NoError(t, err)
		assert.Equal(t, c.passed, verdict.Passed, "%s %s (%s)", c.value, c.rule, verdict.Note)
	}
	for text, want := range map[string]string{"800 ms": "800ms", "5s": "5s", "PT1M30S": "1m30s", "2 d": "48h0m0s"} {
		d, err := rule.Duration(text)
		require.NoError(t, err)
		assert.Equal(t, want, d.String())
	}
	for _, text := range []string{"5", "soon", "2026-01-01", "5 kB"} {
		_, err := rule.Duration(text)
		assert.Error(t, err, text)
	}
}

// Rules put together from parts, as YAML writes them, explain themselves.
func TestComposed(t *testing.T) {
	part := func(text string) *rule.Rule {
		parsed, err := rule.Parse(text, false)
		require.NoError(t, err)
		return parsed
	}
	cases := []struct {
		r        *rule.Rule
		value    *document.Node
		passed   bool
		expected string
	}{
		{
			rule.AllOf([]*rule.Rule{part("over 5"), part("under 9")}), document.NewNumber("7"), true,
			"over 5 and under 9",
		},
		{
			rule.AllOf([]*rule.Rule{part("over 5"), part("under 9")}), document.NewNumber("9"), false,
			"over 5 and under 9",
		},
		{
			rule.AnyOf([]*rule.Rule{part("is null"), part("over 5")}), document.NewNumber("7"), true,
			"is null, or over 5",
		},
		{
			rule.AnyOf([]*rule.Rule{part("is null"), part("over 5")}), document.NewNumber("3"), false,
			"is null, or over 5",
		},
		{
			rule.AnyOf([]*rule.Rule{part("optional is null"), part("optional over 5")}), nil, true,
			"optional is null, or over 5",
		},
		{rule.AnyOf([]*rule.Rule{part("is null"), part("optional over 5")}), nil, false, "is null, or over 5"},
		{rule.Prefixed("not", part("over 5")), document.NewNumber("3"), true, "not over 5"},
		{rule.Prefixed("count", part("over 1")), document.NewList(document.NewNumber("1")), false, "count over 1"},
		{rule.Prefixed("optional", part("over 5")), nil, true, "optional over 5"},
		{
			rule.Prefixed("all", part("length 2")), document.NewList(document.NewText("ab"), document.NewText("üü")),
			true,
			"all length 2",
		},
	}
	for _, c := range cases {
		verdict, err := c.r.Judge(path.Selection{Matches: []path.Match{{
			Where: "x", Node: c.value,
			Miss: &path.Miss{},
		}}}, path.Roots{}, nil)
		require.NoError(t, err)
		assert.Equal(t, c.passed, verdict.Passed, c.expected)
		assert.Equal(t, c.expected, verdict.Expected)
	}
}
