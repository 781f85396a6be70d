package standin_test

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/golang-jwt/jwt/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/standin"
	"testbench/internal/standin/service"
)

// asked is what came back, read by the standard library alone.
type asked struct {
	status int
	header http.Header
	text   string
	json   map[string]any
}

type peer struct {
	t    *testing.T
	base string
}

func start(t *testing.T) (*peer, *standin.Server) {
	t.Helper()
	server, err := standin.Start("127.0.0.1:0", service.Options{})
	require.NoError(t, err)
	t.Cleanup(server.Close)
	return &peer{t, "http://" + server.Address}, server
}

func (p *peer) ask(method, path, body string, headers ...string) asked {
	p.t.Helper()
	r, err := http.NewRequestWithContext(p.t.Context(), method, p.base+path, strings.NewReader(body))
	require.NoError(p.t, err)
	for i := 0; i < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	response, err := http.DefaultClient.Do(r)
	require.NoError(p.t, err)
	defer func() { _ = response.Body.Close() }()
	data, err := io.ReadAll(response.Body)
	require.NoError(p.t, err)
	a := asked{status: response.StatusCode, header: response.Header, text: string(data)}
	_ = json.Unmarshal(data, &a.json)
	return a
}

func (p *peer) token(form string) asked {
	return p.ask("POST", "/gate/token", form, "Content-Type", "application/x-www-form-urlencoded",
		"Authorization", "Basic "+basic("honey-desk", url.QueryEscape(service.Secrets["honey_desk"])))
}

func basic(user, password string) string {
	r, _ := http.NewRequest("GET", "http://x/", nil)
	r.SetBasicAuth(user, password)
	return strings.TrimPrefix(r.Header.Get("Authorization"), "Basic ")
}

func TestGate(t *testing.T) {
	p, _ := start(t)
	got := p.token("grant_type=client_credentials&scope=stores.read+lab.grade&lifetime=60")
	require.Equal(t, 200, got.status, got.text)
	assert.EqualValues(t, 60, got.json["expires_in"])
	assert.Equal(t, "no-store", got.header.Get("Cache-Control"))
	token := got.json["access_token"].(string)

	// The key that the gate publishes verifies what it signed.
	keys := p.ask("GET", "/gate/jwks", "").json["keys"].([]any)[0].(map[string]any)
	assert.Equal(t, "P-256", keys["crv"])
	parsed, _, err := jwt.NewParser().ParseUnverified(token, jwt.MapClaims{})
	require.NoError(t, err)
	assert.Equal(t, keys["kid"], parsed.Header["kid"])
	assert.Equal(t, "ES256", parsed.Header["alg"])

	client := []string{
		"Content-Type", "application/x-www-form-urlencoded", "Authorization",
		"Basic " + basic("honey-desk", url.QueryEscape(service.Secrets["honey_desk"])),
	}
	assert.Equal(t, true, p.ask("POST", "/gate/introspect", "token="+token, client...).json["active"])
	assert.Equal(t, false, p.ask("POST", "/gate/introspect", "token="+token+"x", client...).json["active"])
	assert.Equal(t, 200, p.ask("POST", "/gate/revoke", "token="+token, client...).status)
	assert.Equal(t, false, p.ask("POST", "/gate/introspect", "token="+token, client...).json["active"])

	// A refresh token works once.
	got = p.token("grant_type=password&username=clerk&password=" + url.QueryEscape(service.Secrets["clerk"]))
	require.Equal(t, 200, got.status)
	refresh := "grant_type=refresh_token&refresh_token=" + got.json["refresh_token"].(string)
	assert.Equal(t, 200, p.token(refresh).status)
	assert.Equal(t, "invalid_grant", p.token(refresh).json["error"])

	for form, want := range map[string]string{
		"": "invalid_request", "grant_type=magic": "unsupported_grant_type",
		"grant_type=client_credentials&scope=all":       "invalid_scope",
		"grant_type=password&username=clerk&password=x": "invalid_grant",
		"grant_type=client_credentials&lifetime=x":      "invalid_request",
	} {
		got := p.token(form)
		assert.Equal(t, []any{400, want}, []any{got.status, got.json["error"]}, form)
	}
	got = p.ask("POST", "/gate/token", "grant_type=client_credentials&client_id=honey-desk&client_secret=false",
		"Content-Type", "application/x-www-form-urlencoded")
	assert.Equal(t, []any{401, "invalid_client"}, []any{got.status, got.json["error"]})
	got = p.ask("POST", "/gate/token",
		"grant_type=client_credentials&client_id=honey-desk&client_secret="+
			url.QueryEscape(service.Secrets["honey_desk"]), "Content-Type", "application/x-www-form-urlencoded")
	assert.Equal(t, 200, got.status, "the client's credentials may be in the form")

	got = p.ask("POST", "/gate/ticket", "", "User", "clerk", "Password", service.Secrets["clerk"])
	ticket := got.json["ticket"].(map[string]any)["value"].(string)
	assert.Equal(t, 200, p.ask("GET", "/gate/ticket", "", "Authorization", "Ticket "+ticket).status)
	assert.Equal(t, 401, p.ask("GET", "/gate/ticket", "", "Authorization", "Bearer "+ticket).status)
	assert.Equal(t, 204, p.ask("DELETE", "/gate/ticket", "", "Authorization", "Ticket "+ticket).status)
	assert.Equal(t, 401, p.ask("GET", "/gate/ticket", "", "Authorization", "Ticket "+ticket).status)
	assert.Equal(t, 403, p.ask("POST", "/gate/slip", "user=clerk&password=x", "Content-Type",
		"application/x-www-form-urlencoded").status)
}

func TestStores(t *testing.T) {
	p, _ := start(t)
	bearer := func(form string) string { return "Bearer " + p.token(form).json["access_token"].(string) }
	good := bearer("grant_type=client_credentials")
	cases := []struct {
		path, token, depot string
		status             int
		want               string
	}{
		{"/lots", "", "north", 401, "a bearer token is needed"},
		{"/lots", "Bearer x", "north", 401, "not one of ours"},
		{"/lots", bearer("grant_type=client_credentials&lifetime=0"), "north", 401, "has expired"},
		{"/lots", bearer("grant_type=client_credentials&scope=lab.grade"), "north", 403, "lacks the scope stores.read"},
		{"/lots", good, "", 400, `"field":"X-Depot"`},
		{"/lots?colour=red", good, "north", 400, `"field":"colour"`},
		{"/lots?grade=D", good, "north", 400, `"field":"grade"`},
		{"/lots?page=0", good, "north", 400, `"field":"page"`},
		{"/lots?grade=A&grade=B", good, "north", 200, `"pages":2`},
		{"/lots?from=B&to=B", good, "south", 200, `"total":6`},
		{"/lots?page=9", good, "north", 200, `"lots":[]`},
		{"/lots?keeper=della%20marsh", good, "north", 200, `"Della Marsh"`},
		{"/lots/L-2201", good, "north", 200, `"Ansel Thripp"`},
		{"/lots/L-2201", good, "south", 404, "in the depot south"},
		{"/lotz", good, "north", 404, "there is nothing at /stores/lotz"},
	}
	for _, c := range cases {
		got := p.ask("GET", "/stores"+c.path, "", "Authorization", c.token, "X-Depot", c.depot)
		assert.Equal(t, c.status, got.status, "%s: %s", c.path, got.text)
		assert.Contains(t, got.text, c.want, c.path)
		if c.status == 401 {
			assert.True(t, strings.HasPrefix(got.header.Get("WWW-Authenticate"), "Bearer "), c.path)
		}
	}
}

func TestLedger(t *testing.T) {
	p, _ := start(t)
	key := []string{"Ledger-Key", service.Secrets["ledger_key"], "Content-Type", "application/json"}
	book := func(body string) asked { return p.ask("POST", "/ledger/Intakes", body, key...) }
	cases := []struct {
		body, field string
		status      int
	}{
		{`{"grade":"A","kilos":1,"moisture":17}`, "lot", 422},
		{`{"lot":"L-1","grade":"A","kilos":1,"moisture":17}`, "lot", 422},
		{`{"lot":"L-2201","grade":"D","kilos":1,"moisture":17}`, "grade", 422},
		{`{"lot":"L-2201","grade":"A","kilos":"1","moisture":17}`, "kilos", 422},
		{`{"lot":"L-2201","grade":"A","kilos":-1,"moisture":17}`, "kilos", 422},
		{`{"lot":"L-2201","grade":"A","kilos":1.234,"moisture":17}`, "kilos", 422},
		{`{"lot":"L-2201","grade":"A","kilos":1,"moisture":20.01}`, "moisture", 422},
		{`{"lot":"L-2201","grade":"A","kilos":1,"moisture":17,"x":1}`, "x", 422},
		{`{"lot":`, "", 400},
		{`[]`, "", 400},
		{`{}{}`, "", 400},
	}
	for _, c := range cases {
		got := book(c.body)
		assert.Equal(t, c.status, got.status, c.body)
		if c.field != "" {
			assert.Equal(t, c.field, got.json["error"].(map[string]any)["field"], c.body)
		}
	}
	assert.Equal(t, 401, p.ask("POST", "/ledger/Intakes", "{}").status)
	assert.Equal(t, 415, p.ask("POST", "/ledger/Intakes", "{}", "Ledger-Key", service.Secrets["ledger_key"]).status)

	got := book(`{"lot":"L-2204","grade":"A","kilos":120.5,"moisture":17.40}`)
	require.Equal(t, 201, got.status, got.text)
	// 120.5 kg at 12.50, less a levy of 2 percent, rounded to cents.
	assert.Contains(t, got.text, `"total":1476.12`)
	assert.Contains(t, got.text, `"kilos":120.5`)
	place, tag := got.header.Get("Location"), got.header.Get("ETag")
	assert.Equal(t, 409, book(`{"lot":"L-2204","grade":"A","kilos":1,"moisture":17}`).status)
	change := `{"lot":"L-2204","grade":"B","kilos":100,"moisture":17}`
	assert.Equal(t, 428, p.ask("PUT", place, change, key...).status)
	got = p.ask("PUT", place, change, append(key, "If-Match", tag)...)
	assert.Equal(t, 200, got.status)
	assert.NotEqual(t, tag, got.header.Get("ETag"))
	assert.Equal(t, 412, p.ask("PUT", place, change, append(key, "If-Match", tag)...).status)
	got = p.ask("POST", "/ledger/rpc/stock/Balance/Read", `{"request":{"lot":"L-2204"}}`, key...)
	assert.Contains(t, got.text, `"kilos":100.00`)
	got = p.ask("POST", "/ledger/rpc/stock/Balance/Read", `{"request":{"lot":"L-9"}}`, key...)
	assert.Equal(t, 200, got.status, "older systems answer errors under 200")
	assert.Contains(t, got.text, `"NOT_FOUND"`)
	assert.Contains(t, p.ask("POST", "/ledger/rpc/stock/Balance/Read", `{"lot":"L-9"}`, key...).text, "BAD_WRAPPER")
	assert.Equal(t, 404, p.ask("POST", "/ledger/rpc/stock/Balance/Burn", `{"request":{}}`, key...).status)
	assert.EqualValues(t, 1,
		p.ask("GET", "/ledger/Intakes?$filter=lot%20eq%20'L-2204'&$count=true", "", key...).json["@odata.count"])
	assert.Equal(t, 204, p.ask("DELETE", place, "", key...).status)
	assert.Equal(t, 404, p.ask("GET", place, "", key...).status)
}

func TestLab(t *testing.T) {
	p, _ := start(t)
	contract := p.ask("GET", "/lab?wsdl", "")
	assert.Contains(t, contract.text, `location="`+p.base+`/lab"`)
	assert.Contains(t, contract.text, p.base+"/lab?xsd")
	assert.Contains(t, p.ask("GET", "/lab?xsd", "").text, `targetNamespace="urn:heatherfold:lab"`)

	envelope := func(namespace, header, payload string) string {
		return `<s:Envelope xmlns:s="` + namespace + `" xmlns="urn:heatherfold:lab"><s:Header>` + header +
			`</s:Header><s:Body>` + payload + `</s:Body></s:Envelope>`
	}
	const v11, v12 = "http://schemas.xmlsoap.org/soap/envelope/", "http://www.w3.org/2003/05/soap-envelope"
	grade := func(fields string) asked {
		return p.ask("POST", "/lab", envelope(v11, "", "<GradeLot>"+fields+"</GradeLot>"), "Content-Type", "text/xml",
			"SOAPAction", `"urn:heatherfold:lab:GradeLot"`)
	}
	for fields, want := range map[string]string{
		"<lot>L-2201</lot><moisture>18</moisture><hmf>15</hmf><diastase>8</diastase>": "<lab:grade>A<",
		"<lot>L-2201</lot><moisture>18.01</moisture>":                                 "<lab:grade>B<",
		"<lot>L-2201</lot><moisture>17</moisture><hmf>40.1</hmf>":                     "<lab:grade>C<",
		"<lot>L-2201</lot><moisture>17</moisture><diastase>7</diastase>":              "<lab:grade>B<",
		"<moisture>17</moisture>":                                                     "lot: is mandatory",
		"<lot>2201</lot><moisture>17</moisture>":                                      "not of the form",
		"<lot>L-2201</lot>":                                                           "moisture: is mandatory",
		"<lot>L-2201</lot><moisture>wet</moisture>":                                   "is not a decimal",
		"<lot>L-2201</lot><moisture>9.99</moisture>":                                  "out of range: 10 to 30",
		"<moisture>17</moisture><lot>L-2201</lot>":                                    "out of order",
		"<lot>L-2201</lot><moisture>17</moisture><colour>red</colour>":                "colour: is not expected",
	} {
		got := grade(fields)
		assert.Contains(t, got.text, want, fields)
		assert.Equal(t, map[bool]int{true: 200, false: 500}[strings.HasPrefix(want, "<lab:")], got.status, fields)
	}
	for index, want := range map[string]string{"1.4940": "17.02", "1.4740": "25.02", "1.5044": "12.98"} {
		got := p.ask("POST", "/lab",
			envelope(v12, "", "<ConvertIndex><refractiveIndex>"+index+"</refractiveIndex></ConvertIndex>"),
			"Content-Type", "application/soap+xml")
		assert.Contains(t, got.text, "<lab:moisture>"+want, index)
	}
	payload := "<ConvertIndex><refractiveIndex>1.49</refractiveIndex></ConvertIndex>"
	bad := []struct {
		body, contentType, action string
		status                    int
		want                      string
	}{
		{envelope(v11, "", payload), "application/json", `""`, 415, "the lab takes text/xml"},
		{envelope(v11, "", payload), "application/soap+xml", "", 500, "VersionMismatch"},
		{envelope(v12, "", payload), "text/xml", `""`, 500, "VersionMismatch"},
		{"<a>", "text/xml", `""`, 500, "not well-formed"},
		{"<a/>", "text/xml", `""`, 500, "not a SOAP envelope"},
		{envelope(v11, "", "<Brew/>"), "text/xml", `""`, 500, "there is no operation Brew"},
		{envelope(v11, "", payload), "text/xml", `"urn:x"`, 500, "does not go with ConvertIndex"},
		{envelope(v12, "", payload), `application/soap+xml; action="urn:x"`, "", 400, "does not go with ConvertIndex"},
		{envelope(v11, "", `<x xmlns="urn:x"/>`), "text/xml", `""`, 500, "namespace"},
	}
	for _, c := range bad {
		headers := []string{"Content-Type", c.contentType}
		if c.action != "" {
			headers = append(headers, "SOAPAction", c.action)
		}
		got := p.ask("POST", "/lab", c.body, headers...)
		assert.Equal(t, c.status, got.status, c.want)
		assert.Contains(t, got.text, c.want)
	}
	assert.Contains(t, p.ask("POST", "/lab", envelope(v11, "", payload), "Content-Type", "text/xml").text,
		"SOAPAction is missing")

	// The guarded port wants a UsernameToken; the digest is that of the profile's
	// section 3.1: Base64(SHA-1(nonce + created + password)).
	security := func(user, password string) string {
		return fmt.Sprintf(`<w:Security xmlns:w="urn:w"><w:UsernameToken><w:Username>%s</w:Username>%s</w:UsernameToken></w:Security>`, user, password)
	}
	for header, want := range map[string]string{
		"":                  "is needed",
		security("lab", ""): "holds no Password",
		security("lab", "<w:Password>x</w:Password>"):                          "is wrong",
		security("lab", "<w:Password>"+service.Secrets["lab"]+"</w:Password>"): "<lab:moisture>",
		security("lab", `<w:Password Type="urn:p#PasswordDigest">gYeNBBh0b/YP29e7UCDdjMB5RYA=</w:Password><w:Nonce>aG9uZXk=</w:Nonce><w:Created>2026-11-23T08:00:00Z</w:Created>`): "is wrong",
	} {
		got := p.ask("POST", "/lab/guarded", envelope(v11, header, payload), "Content-Type", "text/xml", "SOAPAction",
			`""`)
		assert.Contains(t, got.text, want, header)
	}
}

func TestCertificates(t *testing.T) {
	p, server := start(t)
	pool := x509.NewCertPool()
	require.True(t, pool.AppendCertsFromPEM(server.CA))
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}}
	addresses := p.ask("GET", "/mishaps", "").json["addresses"].(map[string]any)
	for name, want := range map[string]string{
		"tls": "", "expired": "expired",
		"wrong name": "doesn't contain any IP SANs",
	} {
		response, err := client.Get(addresses[name].(string) + "/")
		if want == "" {
			require.NoError(t, err)
			_ = response.Body.Close()
		} else {
			assert.ErrorContains(t, err, want)
		}
	}
	assert.Equal(t, string(server.CA), p.ask("GET", "/mishaps/ca.pem", "").text)
	assert.Equal(t, 404, p.ask("GET", "/mishaps/none", "").status)
}
