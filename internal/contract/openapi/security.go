package openapi

import (
	"fmt"
	"slices"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/document"
)

func text(n *document.Node, name string) string {
	if v := n.Get(name); v != nil {
		return v.Text
	}
	return ""
}

// required lists the schemes that every operation asks for.
func required(root *document.Node) []string {
	var names []string
	if all := root.Get("security"); all != nil {
		for _, alternative := range all.Items() {
			for _, m := range alternative.Members() {
				names = append(names, m.Key)
			}
		}
	}
	return names
}

// scheme puts a security scheme into words and drafts a login for it (OpenAPI
// 3.1.0, 4.8.27; 2.0, Security Scheme Object).
func scheme(name string, n *document.Node, required []string) contract.Security {
	s := contract.Security{Where: name}
	identifier := strings.ToLower(strings.Map(func(c rune) rune {
		if c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' {
			return c
		}
		return '_'
	}, name))
	sealed := func(what string) string { return "${sealed." + identifier + what + "}" }
	add := func(kind string, settings ...contract.Setting) {
		s.Logins = append(s.Logins, contract.Login{Name: identifier, Kind: kind, Settings: settings})
	}
	user := []contract.Setting{{Name: "user", Text: "USER"}, {Name: "password", Text: sealed("")}}
	say := func(format string, args ...any) { s.Says = append(s.Says, fmt.Sprintf(format, args...)) }
	switch kind := text(n, "type"); kind {
	case "basic":
		say("user and password by Basic")
		add("basic", user...)
	case "apiKey":
		say("a key in the %s %s", text(n, "in"), text(n, "name"))
		add("key", contract.Setting{Name: "key", Text: sealed("")},
			contract.Setting{Name: text(n, "in"), Text: text(n, "name")})
	case "http":
		switch word := strings.ToLower(text(n, "scheme")); word {
		case "basic":
			say("user and password by Basic")
			add("basic", user...)
		case "digest":
			say("user and password by Digest")
			add("digest", user...)
		case "bearer":
			say("a bearer token%s",
				map[bool]string{true: " (" + text(n, "bearerFormat") + ")", false: ""}[text(n, "bearerFormat") != ""])
			add("bearer", contract.Setting{Name: "token", Text: sealed("")})
		default:
			say("HTTP authentication by %s", text(n, "scheme"))
			add("key", contract.Setting{Name: "key", Text: sealed("")},
				contract.Setting{Name: "header", Text: "Authorization"},
				contract.Setting{Name: "scheme", Text: text(n, "scheme")})
		}
	case "oauth2":
		flows(&s, identifier, n)
	case "openIdConnect":
		issuer := strings.TrimSuffix(text(n, "openIdConnectUrl"), "/.well-known/openid-configuration")
		say("OpenID Connect by %s", issuer)
		add("oauth2", contract.Setting{Name: "issuer", Text: issuer}, contract.Setting{Name: "client", Text: "CLIENT"},
			contract.Setting{Name: "client secret", Text: sealed("")})
	case "mutualTLS":
		say("a client certificate")
		add("certificate", contract.Setting{Name: "certificate", Text: "certs/own.pem"},
			contract.Setting{Name: "key", Text: sealed("_key")})
	default:
		say("a scheme of type %q, which is not known", kind)
	}
	if about := text(n, "description"); about != "" {
		s.Says = append(s.Says, strings.Join(strings.Fields(about), " "))
	}
	if slices.Contains(required, name) {
		say("asked for by every operation that says nothing else")
	}
	return s
}

// flows drafts a login for each flow of OAuth 2.0.
func flows(s *contract.Security, name string, n *document.Node) {
	all := n.Get("flows")
	if all == nil { // 2.0 has one
		all = document.NewObject().Set(text(n, "flow"), n)
	}
	grants := map[string]string{
		"clientCredentials": "client credentials", "application": "client credentials", "password": "password",
		"authorizationCode": "authorization code", "accessCode": "authorization code", "deviceAuthorization": "device",
	}
	for _, m := range all.Members() {
		grant, ok := grants[m.Key]
		if !ok {
			s.Says = append(s.Says, "OAuth 2.0 by the flow "+m.Key+", which is no longer used (RFC 9700, 2.1.2)")
			continue
		}
		var scopes []string
		if list := m.Value.Get("scopes"); list != nil {
			for _, scope := range list.Members() {
				scopes = append(scopes, scope.Key)
			}
		}
		said := "OAuth 2.0 by " + grant
		if len(scopes) > 0 {
			said += "; scopes: " + strings.Join(scopes, ", ")
		}
		s.Says = append(s.Says, said)
		settings := []contract.Setting{{Name: "grant", Text: grant}}
		for _, endpoint := range [][2]string{
			{"from", "tokenUrl"},
			{"authorize", "authorizationUrl"},
			{"device", "deviceAuthorizationUrl"},
		} {
			if address := text(m.Value, endpoint[1]); address != "" {
				settings = append(settings, contract.Setting{Name: endpoint[0], Text: address})
			}
		}
		settings = append(settings, contract.Setting{Name: "client", Text: "CLIENT"})
		if grant != "device" && grant != "authorization code" {
			settings = append(settings, contract.Setting{Name: "client secret", Text: "${sealed." + name + "}"})
		}
		if grant == "password" {
			settings = append(settings, contract.Setting{Name: "user", Text: "USER"},
				contract.Setting{Name: "password", Text: "${sealed." + name + "_user}"})
		}
		if len(scopes) > 0 {
			settings = append(settings, contract.Setting{Name: "scope", Text: strings.Join(scopes, " ")})
		}
		login := contract.Login{Name: name, Kind: "oauth2", Settings: settings}
		if len(all.Members()) > 1 {
			login.Name += "_" + strings.ReplaceAll(grant, " ", "_")
		}
		s.Logins = append(s.Logins, login)
	}
}
