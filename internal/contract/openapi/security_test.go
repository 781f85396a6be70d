package openapi_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/bench"
	"testbench/internal/contract"
	"testbench/internal/contract/openapi"
)

const stores = `openapi: 3.1.0
info:
  title: Stores
security:
  - clerk: [read]
components:
  securitySchemes:
    key: {type: apiKey, in: header, name: X-Hive-Key}
    crumb: {type: apiKey, in: cookie, name: crumb}
    plain:
      type: http
      scheme: Basic
      description: >
        For the older
        programs.
    hashed: {type: http, scheme: digest}
    carried: {type: http, scheme: bearer, bearerFormat: JWT}
    odd-one: {type: http, scheme: Ticket}
    clerk:
      type: oauth2
      flows:
        clientCredentials:
          tokenUrl: https://gate.heatherfold.example/token
          scopes: {read: See lots, write: Change lots}
        authorizationCode:
          authorizationUrl: https://gate.heatherfold.example/authorize
          tokenUrl: https://gate.heatherfold.example/token
          scopes: {}
        password:
          tokenUrl: https://gate.heatherfold.example/token
          scopes: {}
        deviceAuthorization:
          deviceAuthorizationUrl: https://gate.heatherfold.example/device
          tokenUrl: https://gate.heatherfold.example/token
          scopes: {}
        implicit:
          authorizationUrl: https://gate.heatherfold.example/authorize
          scopes: {}
    connect: {type: openIdConnect, openIdConnectUrl: https://gate.heatherfold.example/.well-known/openid-configuration}
    mutual: {type: mutualTLS}
    strange: {type: telepathy}
`

const older = `{"swagger": "2.0", "info": {"title": "Older"}, "securityDefinitions": {
  "plain": {"type": "basic"}, "app": {"type": "oauth2", "flow": "application", "tokenUrl": "https://gate.heatherfold.example/token", "scopes": {"read": "x"}}}}`

// What a description asks for is told, and the logins it gives can be pasted.
func TestSecurity(t *testing.T) {
	c, err := openapi.Read("stores.yaml", []byte(stores), nil)
	require.NoError(t, err)
	assert.Equal(t, "Stores", c.Head().Title)
	said := ""
	var logins []contract.Login
	for _, s := range c.Head().Security {
		said += s.Where + ": " + strings.Join(s.Says, "; ") + "\n"
		logins = append(logins, s.Logins...)
	}
	for _, text := range []string{
		"key: a key in the header X-Hive-Key\n", "crumb: a key in the cookie crumb\n",
		"plain: user and password by Basic; For the older programs.\n", "hashed: user and password by Digest\n",
		"carried: a bearer token (JWT)\n",
		"odd-one: HTTP authentication by Ticket\n", "OAuth 2.0 by client credentials; scopes: read, write",
		"the flow implicit, which is no longer used", "asked for by every operation",
		"connect: OpenID Connect by https://gate.heatherfold.example\n",
		"mutual: a client certificate\n", `a scheme of type "telepathy"`,
	} {
		assert.Contains(t, said, text)
	}
	older, err := openapi.Read("older.json", []byte(older), nil)
	require.NoError(t, err)
	assert.Equal(t, "OpenAPI 2.0", older.Head().Format)
	for _, s := range older.Head().Security {
		for _, l := range s.Logins {
			l.Name = "older_" + l.Name
			logins = append(logins, l)
		}
	}
	bench := bench.Read(t.TempDir(), "bench.yaml",
		[]byte("bench: b\nsites:\n  s:\n    set:\n      a: b\nlogins:\n"+contract.YAML(logins)))
	assert.Empty(t, bench.Problems().Serious(), contract.YAML(logins))
	assert.Len(t, bench.Logins, len(logins))

	assert.True(t, openapi.Is([]byte(stores)))
	for other, says := range map[string]string{
		"<a/>": "is not an OpenAPI description", "{}": "is not an OpenAPI description",
		"a: b": "is not an OpenAPI description",
		"- a":  "is not an OpenAPI description",
		"{":    "not well-formed JSON", "\x00": "not well-formed YAML", "": "is not an OpenAPI description",
	} {
		assert.False(t, openapi.Is([]byte(other)), other)
		_, err := openapi.Read("other", []byte(other), nil)
		assert.ErrorContains(t, err, says)
	}
	for _, broken := range []string{"openapi: [", "info: x\nswagger: \"2.0", `{"openapi": "3.1.0", `} {
		assert.True(t, openapi.Is([]byte(broken)), broken)
		_, err := openapi.Read("broken", []byte(broken), nil)
		assert.Error(t, err)
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(stores))
	f.Add([]byte(older))
	f.Fuzz(func(_ *testing.T, data []byte) { _, _ = openapi.Read("f", data, nil) })
}
