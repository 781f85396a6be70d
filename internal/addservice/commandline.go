package addservice

import (
	"encoding/base64"
	"fmt"
	"net/url"
	"path"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/shell"

	"testbench/internal/document"
	"testbench/internal/secret"
)

// options of the two clients whose command lines are in documentation: those that take
// a value, by what is done with it, and those that take none and change nothing.
var (
	curlValues = map[string]string{
		"-X": "method", "--request": "method", "-H": "header", "--header": "header", "-d": "data", "--data": "data",
		"--data-raw": "raw", "--data-ascii": "data",
		"--data-binary": "data", "--data-urlencode": "encoded", "--json": "json", "-u": "user", "--user": "user",
		"--url": "url", "-A": "agent", "--user-agent": "agent", "-e": "referer", "--referer": "referer",
		"-b": "cookie", "--cookie": "cookie", "-F": "part", "--form": "part", "--oauth2-bearer": "bearer",
		"-T": "upload", "--upload-file": "upload",
		"-o": "", "--output": "", "-m": "", "--max-time": "", "--connect-timeout": "", "--retry": "", "-x": "",
		"--proxy": "", "--cacert": "", "-w": "", "--write-out": "", "-D": "", "-c": "", "--resolve": "",
		"--cert": "cert", "-E": "cert", "--key": "cert",
	}
	curlFlags = map[string]string{
		"-G": "get", "--get": "get", "-I": "head", "--head": "head", "-k": "insecure",
		"--insecure": "insecure", "--digest": "digest", "--ntlm": "ntlm", "--negotiate": "negotiate",
	}
	wgetValues = map[string]string{
		"--method": "method", "--header": "header", "--body-data": "raw",
		"--post-data": "raw", "--user": "name", "--password": "password", "--http-user": "name",
		"--http-password": "password", "-O": "", "-U": "agent",
	}
)

// ReadCommandLine takes a command line out of somebody's documentation apart: an address
// with method, headers, body and user. Service names the secrets.
func ReadCommandLine(service, line string) (*Example, error) {
	line = strings.TrimPrefix(strings.TrimSpace(line), "$ ")
	variables := map[string]bool{}
	words, err := shell.Fields(line, func(name string) string {
		if !strings.Contains(line, "$"+name) && !strings.Contains(line, "${"+name) {
			return "" // the reader's own, as IFS
		}
		variables[name] = true
		return "$" + name
	})
	if err != nil {
		return nil, fmt.Errorf("the command line cannot be read: %w", err)
	}
	if len(words) == 0 {
		return nil, fmt.Errorf("the command line is empty")
	}
	c := &commandLine{}
	switch path.Base(strings.TrimSuffix(words[0], ".exe")) {
	case "curl":
		err = c.read(words[1:], curlValues, curlFlags)
	case "wget":
		err = c.read(words[1:], wgetValues, map[string]string{})
	default:
		return nil, fmt.Errorf("%q is not a client whose command lines are read; curl and wget are", words[0])
	}
	if err != nil {
		return nil, err
	}
	for name := range variables {
		c.notes = append(c.notes, fmt.Sprintf("it holds $%s: put the value in its place", name))
	}
	slices.Sort(c.notes)
	return c.example(service)
}

type commandLine struct {
	address, method string
	headers         [][2]string
	data            []string
	user, password  string
	hasUser, get    bool
	json            bool
	notes           []string
}

func (c *commandLine) read(words []string, values, flags map[string]string) error {
	for i := 0; i < len(words); i++ {
		word := words[i]
		if !strings.HasPrefix(word, "-") || word == "-" {
			if c.address != "" {
				return fmt.Errorf("two addresses are in it: %s and %s", c.address, word)
			}
			c.address = word
			continue
		}
		name, text, joined := word, "", false
		if strings.HasPrefix(word, "--") {
			name, text, joined = strings.Cut(word, "=")
		}
		what, takes := values[name]
		if !takes && !strings.HasPrefix(word, "--") && len(word) > 2 {
			// -XPOST, and flags written together: -sSLk
			if what, takes = values[word[:2]]; takes {
				name, text, joined = word[:2], word[2:], true
			} else {
				for at, flag := range word[1:] {
					one := "-" + string(flag)
					if what, takes = values[one]; takes {
						name, text, joined = one, word[at+2:], at+2 < len(word)
						break
					}
					c.flag(flags[one])
				}
				if !takes {
					continue
				}
			}
		}
		if !takes {
			c.flag(flags[name])
			continue
		}
		if !joined {
			if i++; i >= len(words) {
				return fmt.Errorf("%s has no value", name)
			}
			text = words[i]
		}
		c.value(what, text)
	}
	if c.address == "" {
		return fmt.Errorf("there is no address in it")
	}
	if !strings.Contains(c.address, "://") {
		c.address = "http://" + c.address
	}
	return nil
}

func (c *commandLine) flag(what string) {
	switch what {
	case "get":
		c.get = true
	case "head":
		c.method = "HEAD"
	case "insecure":
		c.notes = append(c.notes,
			"it does not check certificates; `tls: {insecure: true}` at a site does that, and is not a good idea")
	case "digest", "ntlm", "negotiate":
		c.notes = append(c.notes, "it logs in by "+what+": write that kind at the login")
	}
}

func (c *commandLine) value(what, text string) {
	switch what {
	case "method":
		c.method = strings.ToUpper(text)
	case "header":
		name, value, ok := strings.Cut(text, ":")
		if ok {
			c.headers = append(c.headers, [2]string{strings.TrimSpace(name), strings.TrimSpace(value)})
		}
	case "agent":
		c.headers = append(c.headers, [2]string{"User-Agent", text})
	case "referer":
		c.headers = append(c.headers, [2]string{"Referer", text})
	case "bearer":
		c.headers = append(c.headers, [2]string{"Authorization", "Bearer " + text})
	case "json":
		c.json = true
		c.data = append(c.data, text)
	case "data":
		if strings.HasPrefix(text, "@") {
			c.notes = append(c.notes, "its body is the file "+text[1:]+": `-body "+text[1:]+"` sends it")
			c.data = append(c.data, "")
			return
		}
		c.data = append(c.data, text)
	case "raw":
		c.data = append(c.data, text)
	case "encoded":
		name, value, ok := strings.Cut(text, "=")
		if !ok {
			name, value = "", text
		}
		c.data = append(c.data, strings.TrimPrefix(name+"="+url.QueryEscape(value), "="))
	case "user":
		c.hasUser = true
		c.user, c.password, _ = strings.Cut(text, ":")
	case "name":
		c.hasUser, c.user = true, text
	case "password":
		c.password = text
	case "url":
		c.address = text
	case "cookie", "part", "upload", "cert":
		c.notes = append(c.notes, map[string]string{
			"cookie": "its cookies were left out: `-in cookie.name=value` sends one",
			"part":   "its parts were left out: `parts:` of a step sends them",
			"upload": "its file was left out: `-bytes FILE` sends it",
			"cert":   "its certificate was left out: a login of kind certificate shows one",
		}[what])
	}
}

// example makes of it what is made of an address, and adds the rest.
func (c *commandLine) example(service string) (*Example, error) {
	body := strings.Join(c.data, "&")
	if c.get && body != "" {
		separator := "?"
		if strings.Contains(c.address, "?") {
			separator = "&"
		}
		c.address, body, c.data = c.address+separator+body, "", nil
	}
	e, err := ReadExample(service, c.address)
	if err != nil {
		return nil, err
	}
	e.Notes = append(e.Notes, c.notes...)
	e.Method = c.method
	if e.Method == "" {
		if e.Method = "GET"; c.data != nil {
			e.Method = "POST"
		}
	}
	if e.Method != "GET" && e.Operation == "get" {
		e.Operation = strings.ToLower(e.Method)
	}
	prefix := identifier(service) + "_"
	if c.hasUser {
		e.User = c.user
		e.Secrets = append(e.Secrets, ExampleSecret{Name: prefix + "password", Text: c.password, Password: true})
	}
	mediaType := ""
	if c.json {
		mediaType = "application/json"
	} else if body != "" {
		mediaType = "application/x-www-form-urlencoded"
	}
	for _, h := range c.headers {
		if strings.EqualFold(h[0], "Content-Type") {
			mediaType = h[1]
		} else {
			e.header(prefix, h[0], h[1])
		}
	}
	e.body(prefix, mediaType, body)
	return e, nil
}

// header adds a header: what looks like a credential is sealed, all else is the default
// of a field.
func (e *Example) header(prefix, name, text string) {
	word, credential, hasWord := strings.Cut(text, " ")
	switch {
	case strings.EqualFold(name, "Accept") && text == "*/*" || strings.EqualFold(name, "Content-Length") ||
		strings.EqualFold(name, "Host"):
	case strings.EqualFold(name, "Cookie"):
		e.Notes = append(e.Notes, "its cookies were left out: `-in cookie.name=value` sends one")
	case strings.EqualFold(name, "Authorization") && strings.EqualFold(word, "Basic"):
		if plain, err := base64.StdEncoding.DecodeString(credential); err == nil {
			user, password, _ := strings.Cut(string(plain), ":")
			e.User = user
			e.Secrets = append(e.Secrets, ExampleSecret{Name: prefix + "password", Text: password, Password: true})
		}
	case strings.EqualFold(name, "Authorization") && hasWord:
		e.Secrets = append(e.Secrets, ExampleSecret{Name: prefix + "token", Header: name, Word: word, Text: credential})
	case strings.EqualFold(name, "Authorization") || secret.IsCredential(name, text):
		e.Secrets = append(e.Secrets, ExampleSecret{Name: prefix + identifier(name), Header: name, Text: text})
	default:
		for i, f := range e.Fields {
			if f.In == "headers" && strings.EqualFold(f.Wire, name) { // a list over several lines (RFC 9110, 5.3)
				e.Fields[i].Default += ", " + text
				return
			}
		}
		e.Fields = append(e.Fields,
			e.field(ExampleField{In: "headers", Wire: name, Name: identifier(name), Default: text}))
	}
}

// body adds the fields of a form, or those of a JSON object that are single values; any
// other body is kept as a file.
func (e *Example) body(prefix, mediaType, body string) {
	if body == "" {
		return
	}
	switch document.FormatOf(mediaType, []byte(body)) {
	case document.Form:
		if root, err := document.ReadJSON([]byte(body)); err == nil && root.Kind == document.Object {
			e.Notes = append(e.Notes,
				"its body is JSON, and its content type says that it is a form; it was taken for JSON")
			e.body(prefix, "application/json", body)
			return
		}
		for pair := range strings.SplitSeq(body, "&") {
			wire, text, _ := strings.Cut(pair, "=")
			e.bodyField(prefix, "form", queryText(wire), document.NewUntyped(queryText(text)))
		}
		return
	case document.JSON:
		root, err := document.ReadJSON([]byte(body))
		if err == nil && root.Kind == document.Object &&
			!slices.ContainsFunc(root.Members(), func(m document.Member) bool {
				return !m.Value.IsScalar() || m.Value.Kind == document.Null
			}) {
			for _, m := range root.Members() {
				e.bodyField(prefix, "body", m.Key, m.Value)
			}
			return
		}
	}
	// What looks like a place for a value is meant as it stands; what looks like a credential
	// becomes one.
	e.Body = strings.ReplaceAll(body, "${", "$${")
	e.BodyType = mediaType
	if root, _, err := document.Read(mediaType, []byte(body)); err == nil {
		secret.Leaves(root, func(name string, leaf *document.Node) {
			if text := leaf.Value().Text; secret.IsCredential(name, text) {
				sealed := e.seal(prefix, name, text)
				m := &secret.Masker{}
				m.Hide(text)
				e.Body = strings.ReplaceAll(m.Text(e.Body), secret.Mask, "${sealed."+sealed+"}")
				e.Notes = append(e.Notes,
					fmt.Sprintf("%s looks like a secret: ${sealed.%s} stands for it in the body", name, sealed))
			}
		})
	}
	if mediaType != "" {
		e.Fields = append(e.Fields,
			ExampleField{In: "headers", Wire: "Content-Type", Name: "content_type", Default: mediaType})
	}
}

// seal takes up a secret that no login sends, and gives its name.
func (e *Example) seal(prefix, wire, text string) string {
	name := prefix + identifier(wire)
	for _, s := range e.Secrets {
		if s.Text == text {
			return s.Name
		}
	}
	for slices.ContainsFunc(e.Secrets, func(s ExampleSecret) bool { return s.Name == name }) {
		name += "_field"
	}
	e.Secrets = append(e.Secrets, ExampleSecret{Name: name, Text: text, Loose: true})
	return name
}

func (e *Example) bodyField(prefix, in, wire string, v *document.Node) {
	if secret.IsCredential(wire, v.Text) {
		name := e.seal(prefix, wire, v.Text)
		e.Notes = append(e.Notes,
			fmt.Sprintf("%s looks like a secret and is not kept in the bench: fill it in as %s='${sealed.%s}'", wire,
				wire, name))
		e.Fields = append(e.Fields, ExampleField{In: in, Wire: wire, Name: wire})
		return
	}
	e.Fields = append(e.Fields, e.field(ExampleField{In: in, Wire: wire, Name: wire, Default: v.Text}))
}
