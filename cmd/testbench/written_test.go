package main_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/standin"
	"testbench/internal/standin/demo"
)

var (
	remarks  = regexp.MustCompile(` *<!--.*?-->`)
	prolog   = regexp.MustCompile(`^<\?xml.*\?>\n`)
	prefixes = regexp.MustCompile(` xmlns:\w+="[^"]*"|\b\w+:`) // which are free to choose
	fromTags = regexp.MustCompile(`>\s+<`)
)

// A drafted step sends what was drafted, for every operation of every contract of the demo.
func TestDraftedStepsSendTheDraft(t *testing.T) {
	slow(t)
	t.Parallel()
	server, err := standin.Start("127.0.0.1:0", standin.Options{})
	require.NoError(t, err)
	t.Cleanup(server.Close)
	p := newPlace(t)
	require.NoError(t, demo.Write(p.dir, "http://"+server.Address))
	p.seal(standin.Secrets)
	count := 0
	for _, service := range []string{"lab", "scale", "convoy", "stores", "ledger", "older_ledger"} {
		o := p.run("survey", service, "-json")
		require.Equal(t, 0, o.status, o.all())
		var surveyed struct{ Operations []struct{ Name string } }
		require.NoError(t, json.Unmarshal([]byte(o.stdout), &surveyed))
		require.NotEmpty(t, surveyed.Operations)
		for _, operation := range surveyed.Operations {
			if service == "ledger" && !strings.Contains(operation.Name, ".") {
				continue // described in bench.yaml in the bench; it has no contract to draft from
			}
			if service == "scale" && operation.Name == "WeighAll" || service == "convoy" && operation.Name == "Weigh" {
				continue // of the other's port
			}
			t.Run(service+"/"+operation.Name, func(t *testing.T) {
				draft := p.run("draft", service, operation.Name)
				require.Equal(t, 0, draft.status, draft.all())
				step := p.run("draft", service, operation.Name, "-as", "step")
				require.Equal(t, 0, step.status, step.all())
				p.write("sheets/drafted.yaml",
					"sheet: drafted\nsteps:\n  "+strings.ReplaceAll(strings.TrimRight(step.stdout, "\n"), "\n", "\n  ")+
						"\n")
				dry := p.run("run", "sheets/drafted.yaml", "-dry")
				require.Equal(t, 0, dry.status, "%s\n%s", step.stdout, dry.all())
				var sent []string
				for line := range strings.Lines(dry.stdout) {
					if rest, ok := strings.CutPrefix(line, "      "); ok {
						sent = append(sent, strings.TrimRight(rest, "\n"))
					}
				}
				head, body := asSent(sent)
				wantedHead, wantedBody := asSent(strings.Split(strings.TrimSpace(prolog.ReplaceAllString(draft.stdout,
					"")), "\n"))
				assert.Equal(t, wantedBody, body)
				for i, line := range wantedHead {
					if method, path, ok := strings.Cut(line, " /"); i == 0 && ok {
						assert.True(t, strings.HasPrefix(head[0],
							method+" http://") && strings.HasSuffix(head[0], "/"+path), "%s, drafted: %s", head[0],
							line)
						continue
					}
					assert.Contains(t, head, line)
				}
				count++
			})
		}
	}
	assert.Greater(t, count, 60)
}

// asSent takes what is shown of a request apart.
func asSent(lines []string) (head []string, body string) {
	for i, line := range lines {
		if line != "" && strings.ContainsAny(line[:1], "<{[") {
			body = remarks.ReplaceAllString(strings.Join(lines[i:], "\n"), "")
			var value any
			if json.Unmarshal([]byte(body), &value) == nil {
				body = fmt.Sprint(value)
			}
			return head, strings.TrimSpace(prefixes.ReplaceAllString(fromTags.ReplaceAllString(body, "><"), ""))
		}
		head = append(head, line)
	}
	return head, ""
}

// What was added from an example is called as the example shows it.
func TestAddedIsWhatWasShown(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ name, shown, want string }{
		{"a query", "BASE/moor/lots?b=2&a=1&empty=&word=a%20b%26c", "GET /moor/lots?b=2&a=1&empty=&word=a%20b%26c "},
		{
			"letters of the world", "BASE/h%C3%A4user/%E8%9C%82?na%C3%AFf=%C3%A9",
			"GET /h%C3%A4user/%E8%9C%82?na%C3%AFf=%C3%A9 ",
		},
		{
			"names with dots and brackets", "BASE/x?page.size=4&filter%5Bmin%5D=3",
			"GET /x?page.size=4&filter%5Bmin%5D=3 ",
		},
		{"a form", "curl -d a=1 -d 'b=x y' BASE/form", "POST /form a=1&b=x+y"},
		{
			"JSON", `curl -X PUT -H 'Content-Type: application/json' -d '{"a": [1, "${x}"]}' BASE/things/7`,
			`PUT /things/7 {"a": [1, "${x}"]}`,
		},
		{"a method", "curl -X DELETE BASE/things/7", "DELETE /things/7 "},
	} {
		t.Run(c.name, func(t *testing.T) {
			server, seen := moor(t, nil)
			p := newPlace(t)
			p.write("bench.yaml", "bench: moor\nsites:\n  local:\n    set:\n      other: 1\n")
			shown := strings.ReplaceAll(c.shown, "BASE", server.URL)
			args := []string{"add", "moor", shown, "-example"}
			if strings.HasPrefix(shown, "curl") {
				args = []string{"add", "moor", "-from-shell", shown}
			}
			o := p.run(args...)
			require.Equal(t, 0, o.status, o.all())
			operation := regexp.MustCompile(`operations:\n *([^:]+):`).FindStringSubmatch(o.stdout)
			require.NotNil(t, operation, o.all())
			args = []string{"call", "moor/" + operation[1]}
			if body := regexp.MustCompile(`-body (\S+)`).FindStringSubmatch(o.all()); body != nil {
				args = append(args, "-body", strings.Trim(body[1], "`"))
			}
			seen.take()
			o = p.run(args...)
			require.Equal(t, 0, o.status, o.all())
			got := seen.take()
			require.Len(t, got, 1)
			assert.Equal(t, c.want, strings.ReplaceAll(got[0], "\n", ""))
		})
	}
}

// Services as strangers have them: names with dots and Greek letters in a WSDL, all of it at
// one host, added to a bench that was just begun.
func TestAServiceOfStrangers(t *testing.T) {
	t.Parallel()
	const wsdl = `<?xml version="1.0"?>
<w:definitions xmlns:w="http://schemas.xmlsoap.org/wsdl/" xmlns:s="http://schemas.xmlsoap.org/wsdl/soap12/" xmlns:x="http://www.w3.org/2001/XMLSchema" xmlns:t="tag:κλίμα" targetNamespace="tag:κλίμα">
<w:types><x:schema targetNamespace="tag:κλίμα"><x:element name="Ask.It"><x:complexType><x:sequence><x:element name="station.id" type="x:token"/><x:element name="από" type="x:date" minOccurs="0"/><x:element name="tag" type="x:string" minOccurs="0" maxOccurs="9"/></x:sequence></x:complexType></x:element>
<x:element name="Told"><x:complexType><x:sequence><x:element name="place" type="x:string"/></x:sequence></x:complexType></x:element></x:schema></w:types>
<w:message name="Q"><w:part name="p" element="t:Ask.It"/></w:message><w:message name="R"><w:part name="p" element="t:Told"/></w:message>
<w:portType name="P"><w:operation name="Ask.Now"><w:input message="t:Q"/><w:output message="t:R"/></w:operation></w:portType>
<w:binding name="B" type="t:P"><s:binding transport="http://schemas.xmlsoap.org/soap/http"/><w:operation name="Ask.Now"><s:operation soapAction="tag:a"/><w:input><s:body use="literal"/></w:input><w:output><s:body use="literal"/></w:output></w:operation></w:binding>
<w:service name="S"><w:port name="P" binding="t:B"><s:address location="BASE/κλ/ask"/></w:port></w:service></w:definitions>`
	server, seen := moor(t, func(w http.ResponseWriter, r *http.Request, _ string) {
		if r.Method == http.MethodGet {
			w.Header().Set("Content-Type", "text/xml")
			_, _ = io.WriteString(w, strings.ReplaceAll(wsdl, "BASE", "http://"+r.Host))
			return
		}
		w.Header().Set("Content-Type", "application/soap+xml; charset=iso-8859-1")
		_, _ = io.WriteString(w,
			"<e:Envelope xmlns:e=\"http://www.w3.org/2003/05/soap-envelope\"><e:Body><t:Told xmlns:t=\"tag:&#954;&#955;&#943;&#956;&#945;\"><place>K\xf6ln</place></t:Told></e:Body></e:Envelope>")
	})
	p := newPlace(t)
	require.Equal(t, 0, p.run("new", "own").status)
	p.dir += "/own"
	o := p.run("add", "klima", server.URL+"/ask?wsdl")
	require.Equal(t, 0, o.status, o.all())
	assert.Contains(t, p.read("bench.yaml"), "contract: ${base}/ask?wsdl\n    address: ${base}/κλ/ask\n")
	seen.take()
	o = p.run("call", "klima/Ask.Now", "station.id=S1", "από=2026-01-01", "tag.0=α", "tag.1=β", "-pick", "place",
		"-into", "sheets/k.yaml")
	require.Equal(t, 0, o.status, o.all())
	assert.Equal(t, "Köln\n", o.stdout)
	posted := func() (out []string) {
		for _, line := range seen.take() {
			if strings.HasPrefix(line, "POST") {
				out = append(out, line)
			}
		}
		return out
	}
	first := posted()
	require.Len(t, first, 1)
	assert.Contains(t, first[0], "<station.id xmlns=\"\">S1</station.id>")
	o = p.run("run", "sheets/k.yaml")
	require.Equal(t, 0, o.status, o.all())
	assert.Equal(t, first, posted(), "what was written sends the same")
	o = p.run("call", "klima/Ask.Now", "station.id=S1", "από=2026-01-01", "tag=α", "tag=β")
	assert.Equal(t, 0, o.status, o.all())
	assert.Equal(t, first, posted(), "what is given twice is a list")
	o = p.run("call", "klima/Ask.Now", "station.id=S1", "station.id=S2")
	assert.Equal(t, 2, o.status, o.all())
	o = p.run("call", "klima/Ask.Now", "station.ix=S1")
	assert.Equal(t, 2, o.status, o.all())
}

// A 401 that a step expects is what it gets: no new token is asked for, nothing is sent again.
func TestAnExpectedRefusalIsNotAskedAgain(t *testing.T) {
	t.Parallel()
	server, seen := moor(t, func(w http.ResponseWriter, r *http.Request, _ string) {
		w.Header().Set("Content-Type", "application/json")
		if r.URL.Path != "/token" {
			w.WriteHeader(http.StatusUnauthorized)
		}
		_, _ = io.WriteString(w, `{"access_token": "t", "token_type": "Bearer", "expires_in": 600}`)
	})
	p := moorBench(t, server,
		`services:
  moor:
    address: ${base}
    login: l
logins:
  l:
    kind: oauth2
    from: ${base}/token
    client: c
    client secret: ${machine.HOME}
`)
	for expect, want := range map[string]int{"401": 2, "4xx": 2, "200 or 401": 4, "200": 4} {
		o := p.sheet("sheet: s\nsteps:\n  - step: a\n    request: moor GET /x\n    expect:\n      status: " + expect +
			"\n")
		assert.Equal(t, expect != "200", o.status == 0, o.all())
		assert.Len(t, seen.take(), want, expect)
	}
}

// OData, 8.2.4 of Protocol 4.01: a version that an answer named goes with the change, though
// the metadata do not ask for it.
func TestVersionsThatNobodyAskedFor(t *testing.T) {
	t.Parallel()
	version := 3
	server, seen := moor(t, func(w http.ResponseWriter, r *http.Request, _ string) {
		w.Header().Set("Content-Type", "application/json")
		switch {
		case strings.HasSuffix(r.URL.Path, "$metadata"):
			w.Header().Set("Content-Type", "application/xml")
			_, _ = io.WriteString(w,
				`<edmx:Edmx Version="4.0" xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx"><edmx:DataServices><Schema Namespace="L" xmlns="http://docs.oasis-open.org/odata/ns/edm"><EntityType Name="T"><Key><PropertyRef Name="Id"/></Key><Property Name="Id" Type="Edm.String" Nullable="false"/><Property Name="N" Type="Edm.Int32"/></EntityType><EntityContainer Name="C"><EntitySet Name="Ts" EntityType="L.T"/></EntityContainer></Schema></edmx:DataServices></edmx:Edmx>`)
			return
		case r.Method == http.MethodPatch && r.Header.Get("If-Match") != fmt.Sprintf(`W/"%d"`, version):
			w.WriteHeader(http.StatusPreconditionFailed)
		case r.Method == http.MethodPatch:
			version++
		}
		_, _ = fmt.Fprintf(w, `{"@odata.etag": "W/\"%d\"", "Id": "a", "N": 1}`, version)
	})
	p := moorBench(t, server, "services:\n  moor:\n    contract: ${base}/m/$metadata\n    address: ${base}/m\n")
	o := p.sheet(`sheet: s
steps:
  - step: first
    call: moor/Ts.change
    fill:
      Id: a
      N: 1
    expect:
      status: 412
  - step: read
    call: moor/Ts.read
    fill:
      Id: a
  - step: change
    call: moor/Ts.change
    fill:
      Id: a
      N: 2
  - step: again
    call: moor/Ts.change
    fill:
      Id: a
      N: 3
  - step: without
    call: moor/Ts.change
    fill:
      Id: a
      N: 3
    headers:
      If-Match: null
    expect:
      status: 412
`)
	assert.Equal(t, 0, o.status, o.all())
	assert.Len(t, seen.take(), 6, "nothing is read that nobody asked for")
}
