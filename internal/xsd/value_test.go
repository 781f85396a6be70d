package xsd

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func valueOf(t *testing.T, p primitive, text string) Value {
	t.Helper()
	v, err := parsePrimitive(p, text, nil)
	require.NoError(t, err, text)
	return v
}

// The order of values: <, >, = or nothing that could be said ("?").
func TestOrder(t *testing.T) {
	for _, c := range []struct {
		primitive primitive
		a, order  string
		b         string
	}{
		{decimalType, "1", "<", "2"},
		{decimalType, "-1", ">", "-2"},
		{decimalType, "0.1", "=", "000.100"},
		{decimalType, "-0", "=", "0"},
		{decimalType, "12345678901234567890.1", "<", "12345678901234567890.11"},
		{decimalType, "9", "<", "10"},
		{decimalType, "-9", ">", "-10"},
		{decimalType, "0.9", ">", "0.89"},
		{doubleType, "1", "<", "INF"},
		{doubleType, "-INF", "<", "-1e308"},
		{doubleType, "NaN", "=", "NaN"},
		{doubleType, "NaN", "?", "1"},
		{floatType, "0", "=", "-0"},
		// Part 2, 3.2.7.4: the table of dateTime.
		{dateTimeType, "2000-01-15T00:00:00", "<", "2000-02-15T00:00:00"},
		{dateTimeType, "2000-01-15T12:00:00", "<", "2000-01-16T12:00:00Z"},
		{dateTimeType, "2000-01-01T12:00:00", "?", "1999-12-31T23:00:00Z"},
		{dateTimeType, "2000-01-16T12:00:00", "?", "2000-01-16T12:00:00Z"},
		{dateTimeType, "2000-01-16T00:00:00", "?", "2000-01-16T12:00:00Z"},
		{dateTimeType, "2002-10-10T12:00:00-05:00", "=", "2002-10-10T17:00:00Z"},
		{dateTimeType, "2000-12-31T23:30:00-01:00", "=", "2001-01-01T00:30:00Z"},
		{dateTimeType, "2024-02-28T24:00:00Z", "=", "2024-02-29T00:00:00Z"},
		{dateTimeType, "-0001-12-31T23:00:00-02:00", "=", "0001-01-01T01:00:00Z"},
		{dateTimeType, "2000-01-01T00:00:00.5Z", ">", "2000-01-01T00:00:00.45Z"},
		{dateTimeType, "2000-01-01T00:00:00.50Z", "=", "2000-01-01T00:00:00.5Z"},
		{dateType, "2000-03-01", ">", "2000-02-29"},
		{dateType, "2002-10-10+13:00", "=", "2002-10-09-11:00"},
		{dateType, "-0002-01-01", "<", "-0001-01-01"},
		{timeType, "08:00:00Z", "=", "10:00:00+02:00"},
		{gYearType, "1999", "<", "2000"},
		{gMonthDayType, "--02-29", "<", "--03-01"},
		{gDayType, "---31", ">", "---01"},
		{gMonthType, "--12", ">", "--11"},
		{gYearMonthType, "2000-12", "<", "2001-01"},
		// Part 2, 3.2.6.2: the table of durations.
		{durationType, "P1Y", ">", "P364D"},
		{durationType, "P1Y", "?", "P365D"},
		{durationType, "P1Y", "?", "P366D"},
		{durationType, "P1Y", "<", "P367D"},
		{durationType, "P1M", ">", "P27D"},
		{durationType, "P1M", "?", "P28D"},
		{durationType, "P1M", "?", "P29D"},
		{durationType, "P1M", "?", "P30D"},
		{durationType, "P1M", "?", "P31D"},
		{durationType, "P1M", "<", "P32D"},
		{durationType, "P5M", ">", "P149D"},
		{durationType, "P5M", "?", "P150D"},
		{durationType, "P5M", "?", "P153D"},
		{durationType, "P5M", "<", "P154D"},
		{durationType, "PT1.5S", "<", "PT1.51S"},
		{durationType, "-PT1.5S", ">", "-PT1.51S"},
		{durationType, "-P1M", ">", "-P32D"},
		{durationType, "P1DT1S", ">", "PT24H"},
		{durationType, "P12M", "=", "P1Y"},
		{durationType, "-P0D", "=", "PT0S"},
	} {
		a, b := valueOf(t, c.primitive, c.a), valueOf(t, c.primitive, c.b)
		for _, way := range []struct {
			x, y   Value
			wanted string
		}{{a, b, c.order}, {b, a, map[string]string{"<": ">", ">": "<", "=": "=", "?": "?"}[c.order]}} {
			got := "?"
			if order, ok := way.x.compare(way.y); ok {
				got = [...]string{"<", "=", ">"}[order+1]
			}
			assert.Equal(t, way.wanted, got, "%s and %s", c.a, c.b)
		}
		assert.Equal(t, c.order == "=", a.same(b), "%s is %s", c.a, c.b)
	}
}

func TestIdentity(t *testing.T) {
	same := func(p primitive, a, b string) bool { return valueOf(t, p, a).same(valueOf(t, p, b)) }
	assert.True(t, same(booleanType, "1", "true"))
	assert.True(t, same(hexBinaryType, "0fb7", "0FB7"))
	assert.True(t, same(base64BinaryType, "aG9u ZXk=", "aG9uZXk="))
	assert.False(t, same(stringType, "1", "1.0"))
	assert.False(t, valueOf(t, stringType, "1").same(valueOf(t, decimalType, "1")),
		"values of different types are different")
	list := builtins["NMTOKENS"]
	a, err := list.parse(" a  b ", nil)
	require.NoError(t, err)
	b, err := list.parse("a b", nil)
	require.NoError(t, err)
	assert.True(t, a.same(b))
	one := nodeScope{prefixes: map[string]string{"p": "urn:a", "q": "urn:a"}}
	x, err := parsePrimitive(qnameType, "p:n", &one)
	require.NoError(t, err)
	y, err := parsePrimitive(qnameType, "q:n", &one)
	require.NoError(t, err)
	assert.True(t, x.same(y), "a qualified name is its namespace, not its prefix")
}
