package httpurl_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"testbench/internal/httpurl"
)

func TestUserInAddress(t *testing.T) {
	t.Parallel()
	for address, want := range map[string]struct {
		has  bool
		user string
	}{
		"http://anna:se@cr:et@h/x":           {true, "anna:se@cr:et"},
		"HTTPS://anna@h":                     {true, "anna"},
		"https://${user}:${sealed.pw}@h?a=b": {true, "${user}:${sealed.pw}"},
		"http://h/a@b":                       {},
		"http://h?mail=a@b":                  {},
		"http://h#a:b@c":                     {},
		"http://h:80/x":                      {},
		"postgres://bryony:word@h/lots":      {false, "bryony:word"},
		"anna:word@h":                        {},
		"":                                   {},
	} {
		assert.Equal(t, want.has, httpurl.HasUser(address), address)
		user, found := httpurl.User(address)
		assert.Equal(t, want.user, user, address)
		assert.Equal(t, want.user != "", found, address)
	}
}
