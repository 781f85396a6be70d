package datatype

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func valueOf(t *testing.T, p Primitive, text string) Value {
	t.Helper()
	v, err := Parse(p, text, nil)
	require.NoError(t, err, text)
	return v
}

// The order of values: <, >, = or nothing that could be said ("?").
func TestOrder(t *testing.T) {
	for _, c := range []struct {
		primitive Primitive
		a, order  string
		b         string
	}{
		{Decimal, "1", "<", "2"},
		{Decimal, "-1", ">", "-2"},
		{Decimal, "0.1", "=", "000.100"},
		{Decimal, "-0", "=", "0"},
		{Decimal, "12345678901234567890.1", "<", "12345678901234567890.11"},
		{Decimal, "9", "<", "10"},
		{Decimal, "-9", ">", "-10"},
		{Decimal, "0.9", ">", "0.89"},
		{Double, "1", "<", "INF"},
		{Double, "-INF", "<", "-1e308"},
		{Double, "NaN", "=", "NaN"},
		{Double, "NaN", "?", "1"},
		{Float, "0", "=", "-0"},
		// Part 2, 3.2.7.4: the table of dateTime.
		{DateTime, "2000-01-15T00:00:00", "<", "2000-02-15T00:00:00"},
		{DateTime, "2000-01-15T12:00:00", "<", "2000-01-16T12:00:00Z"},
		{DateTime, "2000-01-01T12:00:00", "?", "1999-12-31T23:00:00Z"},
		{DateTime, "2000-01-16T12:00:00", "?", "2000-01-16T12:00:00Z"},
		{DateTime, "2000-01-16T00:00:00", "?", "2000-01-16T12:00:00Z"},
		{DateTime, "2002-10-10T12:00:00-05:00", "=", "2002-10-10T17:00:00Z"},
		{DateTime, "2000-12-31T23:30:00-01:00", "=", "2001-01-01T00:30:00Z"},
		{DateTime, "2024-02-28T24:00:00Z", "=", "2024-02-29T00:00:00Z"},
		{DateTime, "-0001-12-31T23:00:00-02:00", "=", "0001-01-01T01:00:00Z"},
		{DateTime, "2000-01-01T00:00:00.5Z", ">", "2000-01-01T00:00:00.45Z"},
		{DateTime, "2000-01-01T00:00:00.50Z", "=", "2000-01-01T00:00:00.5Z"},
		{Date, "2000-03-01", ">", "2000-02-29"},
		{Date, "2002-10-10+13:00", "=", "2002-10-09-11:00"},
		{Date, "-0002-01-01", "<", "-0001-01-01"},
		{Time, "08:00:00Z", "=", "10:00:00+02:00"},
		{GYear, "1999", "<", "2000"},
		{GMonthDay, "--02-29", "<", "--03-01"},
		{GDay, "---31", ">", "---01"},
		{GMonth, "--12", ">", "--11"},
		{GYearMonth, "2000-12", "<", "2001-01"},
		// Part 2, 3.2.6.2: the table of durations.
		{Duration, "P1Y", ">", "P364D"},
		{Duration, "P1Y", "?", "P365D"},
		{Duration, "P1Y", "?", "P366D"},
		{Duration, "P1Y", "<", "P367D"},
		{Duration, "P1M", ">", "P27D"},
		{Duration, "P1M", "?", "P28D"},
		{Duration, "P1M", "?", "P29D"},
		{Duration, "P1M", "?", "P30D"},
		{Duration, "P1M", "?", "P31D"},
		{Duration, "P1M", "<", "P32D"},
		{Duration, "P5M", ">", "P149D"},
		{Duration, "P5M", "?", "P150D"},
		{Duration, "P5M", "?", "P153D"},
		{Duration, "P5M", "<", "P154D"},
		{Duration, "PT1.5S", "<", "PT1.51S"},
		{Duration, "-PT1.5S", ">", "-PT1.51S"},
		{Duration, "-P1M", ">", "-P32D"},
		{Duration, "P1DT1S", ">", "PT24H"},
		{Duration, "P12M", "=", "P1Y"},
		{Duration, "-P0D", "=", "PT0S"},
	} {
		a, b := valueOf(t, c.primitive, c.a), valueOf(t, c.primitive, c.b)
		for _, way := range []struct {
			x, y     Value
			expected string
		}{{a, b, c.order}, {b, a, map[string]string{"<": ">", ">": "<", "=": "=", "?": "?"}[c.order]}} {
			got := "?"
			if order, ok := way.x.Compare(way.y); ok {
				got = [...]string{"<", "=", ">"}[order+1]
			}
			assert.Equal(t, way.expected, got, "%s and %s", c.a, c.b)
		}
		assert.Equal(t, c.order == "=", a.Same(b), "%s is %s", c.a, c.b)
	}
}

func TestIdentity(t *testing.T) {
	same := func(p Primitive, a, b string) bool { return valueOf(t, p, a).Same(valueOf(t, p, b)) }
	assert.True(t, same(Boolean, "1", "true"))
	assert.True(t, same(HexBinary, "0fb7", "0FB7"))
	assert.True(t, same(Base64Binary, "aG9u ZXk=", "aG9uZXk="))
	assert.False(t, same(String, "1", "1.0"))
	assert.False(t, valueOf(t, String, "1").Same(valueOf(t, Decimal, "1")),
		"values of different types are different")
	texts := func(items ...string) Value {
		var values []Value
		for _, item := range items {
			values = append(values, valueOf(t, String, item))
		}
		return ListOf(values)
	}
	assert.True(t, texts("a", "b").Same(texts("a", "b")))
	assert.False(t, texts("a", "b").Same(texts("a b")))
	one := prefixes{"p": "urn:a", "q": "urn:a"}
	x, err := Parse(QName, "p:n", one)
	require.NoError(t, err)
	y, err := Parse(QName, "q:n", one)
	require.NoError(t, err)
	assert.True(t, x.Same(y), "a qualified name is its namespace, not its prefix")
}

type prefixes map[string]string

func (p prefixes) Lookup(prefix string) (string, bool) {
	space, known := p[prefix]
	return space, known
}

// What is taken for a usual moment is one at a closer look too, and most that there are are usual.
func TestUsualMoments(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	usual := 0
	for range 200_000 {
		p, text := Date, []byte("2026-11-28")
		if random.IntN(2) == 0 {
			p, text = DateTime, []byte("2026-11-28T23:59:59Z")
		}
		for range random.IntN(4) {
			text[random.IntN(len(text))] = "0123456789-:TZ+"[random.IntN(15)]
		}
		if isUsualMoment(p, text) {
			usual++
			_, err := parseMoment(p, string(text))
			require.NoError(t, err)
		}
	}
	assert.Greater(t, usual, 60_000)
	assert.False(t, isUsualMoment(Time, []byte("08:30:00")))
	assert.False(t, isUsualMoment(Date, []byte("2026-11-28T08:30:00")))
}
