package syntax_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"testbench/internal/syntax"
)

func TestUserInAddress(t *testing.T) {
	t.Parallel()
	for address, want := range map[string]struct {
		has      bool
		password string
	}{
		"http://anna:se@cr:et@h/x":           {true, "se@cr:et"},
		"HTTPS://anna@h":                     {true, ""},
		"https://${user}:${sealed.pw}@h?a=b": {true, "${sealed.pw}"},
		"http://h/a@b":                       {},
		"http://h?mail=a@b":                  {},
		"http://h#a:b@c":                     {},
		"http://h:80/x":                      {},
		"postgres://bryony:word@h/lots":      {false, "word"},
		"anna:word@h":                        {},
		"":                                   {},
	} {
		assert.Equal(t, want.has, syntax.HasUser(address), address)
		assert.Equal(t, want.password, syntax.PasswordOf(address), address)
	}
}
