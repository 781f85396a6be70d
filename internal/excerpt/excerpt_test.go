package excerpt_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"testbench/internal/excerpt"
)

func TestShorten(t *testing.T) {
	long := strings.Repeat("蜂蜜", 50)
	for name, c := range map[string]struct{ message, want string }{
		"short": {`got "a"`, `got "a"`},
		"long": {
			`got ` + excerpt.Quote(long) + `, expected "b"`,
			`got "` + strings.Repeat("蜂蜜", 30) + `…", expected "b"`,
		},
		"two": {
			excerpt.Quote(long) + " and " + excerpt.Quote(long),
			`"` + strings.Repeat("蜂蜜", 30) + `…" and "` + strings.Repeat("蜂蜜", 30) + `…"`,
		},
		"an escape stays": {
			excerpt.Quote(strings.Repeat("x", 59) + "\x00" + strings.Repeat("y", 99)),
			`"` + strings.Repeat("x", 59) + `\x00…"`,
		},
		"marks inside":        {excerpt.Quote(strings.Repeat(`"`, 90)), `"` + strings.Repeat(`\"`, 60) + `…"`},
		"not closed":          {`one " ` + long, `one " ` + long},
		"not in marks":        {long, long},
		"ends in a backslash": {strings.Repeat("z", 90) + `"a\`, strings.Repeat("z", 90) + `"a\`},
	} {
		assert.Equal(t, c.want, excerpt.Shorten(c.message), name)
	}
	assert.Len(t, excerpt.Quote(strings.Repeat("ü", excerpt.Most)), excerpt.Most+2, "whole letters")
}
