package addservice

import (
	"encoding/base64"
	"fmt"
	"net/url"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/shell"

	"testbench/internal/document"
	"testbench/internal/request"
	"testbench/internal/secret"
)

// options of the two clients whose command lines are in documentation: those that take
// a value, by what is done with it, and those that take none and change nothing.
var (
	curlValues = map[string]string{
		"-X": "method", "--request": "method", "-H": "header", "--header": "header", "-d": "data", "--data": "data",
		"--data-raw": "raw", "--data-ascii": "data",
		"--data-binary": "binary", "--data-urlencode": "encoded", "--json": "json", "-u": "user", "--user": "user",
		"--url": "url", "-A": "agent", "--user-agent": "agent", "-e": "referer", "--referer": "referer",
		"-b": "cookie", "--cookie": "cookie", "-F": "part", "--form": "part", "--oauth2-bearer": "bearer",
		"-T": "upload", "--upload-file": "upload", "--form-string": "text part",
		"-o": "", "--output": "", "-m": "", "--max-time": "", "--connect-timeout": "", "--retry": "", "-x": "proxy",
		"--proxy": "proxy", "--cacert": "authority", "-w": "", "--write-out": "", "-D": "", "-c": "", "--resolve": "",
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
// with method, headers, body and user. Service names the secrets; read reads the files that it names.
func ReadCommandLine(service, line string, read func(name string) ([]byte, error)) (*Example, error) {
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
	c := &commandLine{read: read, files: map[string][]byte{}}
	switch path.Base(strings.TrimSuffix(words[0], ".exe")) {
	case "curl":
		err = c.options(words[1:], curlValues, curlFlags)
	case "wget":
		err = c.options(words[1:], wgetValues, map[string]string{})
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
	kind            string      // of the login, "" for basic
	cookies         [][2]string // names and values
	parts           []examplePart
	read            func(name string) ([]byte, error)
	files           map[string][]byte // that were read, by the names they get
	notes           []string
}

// examplePart is a part of a body of several parts.
type examplePart struct{ name, value, file, fileName, mediaType string }

func (c *commandLine) options(words []string, values, flags map[string]string) error {
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
	case "digest", "ntlm":
		c.kind = what
	case "negotiate":
		c.notes = append(c.notes, "it logs in by negotiation: write a login of kind kerberos or ntlm at the service")
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
	case "data", "binary":
		if name, isFile := strings.CutPrefix(text, "@"); isFile {
			text = c.file(name, "`-body "+name+"` sends it")
			if what == "data" { // without line breaks and zeros
				text = strings.NewReplacer("\r", "", "\n", "", "\x00", "").Replace(text)
			}
		}
		c.data = append(c.data, text)
	case "raw":
		c.data = append(c.data, text)
	case "encoded":
		// content, =content, name=content, @file, name@file
		name, value, ok := strings.Cut(text, "=")
		if at := strings.IndexByte(text, '@'); at >= 0 && (!ok || at < len(name)) {
			name, value = text[:at], c.file(text[at+1:], "its text is a value of the body")
		} else if !ok {
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
	case "cookie":
		if !strings.Contains(text, "=") {
			c.notes = append(c.notes, "the cookies of the file "+text+" were left out: write them at always: cookies:")
			return
		}
		for pair := range strings.SplitSeq(text, ";") {
			name, value, _ := strings.Cut(strings.TrimSpace(pair), "=")
			c.cookies = append(c.cookies, [2]string{name, value})
		}
	case "part", "text part":
		c.part(text, what == "part")
	case "upload":
		c.data = append(c.data, c.file(text, "`-bytes "+text+"` sends it"))
		if c.method == "" {
			c.method = "PUT"
		}
	case "proxy", "cert", "authority":
		c.notes = append(c.notes, map[string]string{
			"proxy": "it goes through a proxy: write proxy: {address: " + text + "} at the site",
			"cert":  "it shows a certificate: a login of kind certificate does that (certificate: " + text + ")",
			"authority": "it trusts an authority: write tls: {ca: " + text + "} at the site, with the file in the " +
				"bench",
		}[what])
	}
}

// file reads a file that the command line names; where it is not there, a note says what to do.
func (c *commandLine) file(name, instead string) string {
	// What somebody else's text names is read only where the reader is, and below.
	if c.read != nil && filepath.IsLocal(name) {
		if data, err := c.read(name); err == nil {
			return string(data)
		}
	}
	c.notes = append(c.notes, "it sends the file "+name+", which is not here: "+instead)
	return ""
}

// part takes name=value, name=@file and name=<file, each with ;type= and ;filename= after it.
func (c *commandLine) part(text string, mayBeFile bool) {
	name, value, _ := strings.Cut(text, "=")
	p := examplePart{name: name, value: value}
	if !mayBeFile {
		c.parts = append(c.parts, p)
		return
	}
	pieces := strings.Split(value, ";")
	for len(pieces) > 1 {
		key, of, ok := strings.Cut(strings.TrimSpace(pieces[len(pieces)-1]), "=")
		if !ok || key != "type" && key != "filename" {
			break
		}
		if of = strings.Trim(of, `"`); key == "type" {
			p.mediaType = of
		} else {
			p.fileName = of
		}
		pieces = pieces[:len(pieces)-1]
	}
	p.value = strings.Join(pieces, ";")
	switch file := strings.Trim(p.value[min(1, len(p.value)):], `"`); {
	case strings.HasPrefix(p.value, "@"):
		if p.fileName == "" {
			p.fileName = path.Base(file)
		}
		p.value, p.file = "", path.Join("data", path.Base(file))
		c.files[p.file] = []byte(c.file(file, "put it into the bench as "+p.file))
	case strings.HasPrefix(p.value, "<"):
		p.value = c.file(file, "its text is a value of a part")
	}
	c.parts = append(c.parts, p)
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
	for _, cookie := range c.cookies {
		e.cookie(prefix, cookie[0], cookie[1])
	}
	e.Parts, e.Files, e.LoginKind = c.parts, c.files, c.kind
	if len(c.parts) > 0 && c.method == "" {
		e.Method = "POST"
	}
	if u, err := url.Parse(c.address); err == nil && len(c.parts) > 0 {
		base := strings.TrimRight(strings.TrimPrefix(e.Address, u.Scheme+"://"+u.Host), "/")
		e.Line = strings.TrimPrefix(u.RequestURI(), base)
	}
	if c.hasUser {
		e.User = c.user
		e.Secrets = append(e.Secrets, ExampleSecret{Name: prefix + "password", Text: c.password, Password: true})
	}
	mediaType := ""
	if c.json {
		mediaType = "application/json"
		if !slices.ContainsFunc(c.headers, func(h [2]string) bool { return strings.EqualFold(h[0], "Accept") }) {
			c.headers = append(c.headers, [2]string{"Accept", "application/json"})
		}
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
	if format := document.FormatOf(mediaType, []byte(body)); format == document.JSON || format == document.XML {
		if root, _, err := document.Read(mediaType, []byte(body)); err == nil && e.isOwn(format, root) {
			err := e.sampleBody(prefix, mediaType, body)
			e.hide()
			return e, err
		}
	}
	e.body(prefix, mediaType, body)
	return e, nil
}

// isOwn says whether a body can be taken apart and written again as it was: nothing in it looks like a
// placeholder.
func (e *Example) isOwn(_ document.Format, root *document.Node) bool {
	own := true
	secret.Leaves(root, func(_ string, leaf *document.Node) { own = own && !strings.Contains(leaf.Value().Text, "${") })
	return own
}

// cookie seals a cookie: whoever has it may be taken for who logged in.
func (e *Example) cookie(prefix, name, value string) {
	sealed := e.seal(prefix, name, value)
	e.Cookies = append(e.Cookies, [2]string{name, sealed})
}

// header adds a header: what looks like a credential is sealed, all else is the default
// of a field.
func (e *Example) header(prefix, name, text string) {
	word, credential, hasWord := strings.Cut(text, " ")
	refused := request.CheckHeader(name, "")
	switch {
	case strings.EqualFold(name, "Accept") && text == "*/*" || strings.EqualFold(name, "Content-Length") ||
		strings.EqualFold(name, "Host"):
	case refused != nil:
		if note := fmt.Sprintf("%v: it was left out", refused); !slices.Contains(e.Notes, note) {
			e.Notes = append(e.Notes, note)
		}
	case strings.EqualFold(name, "Cookie"):
		for pair := range strings.SplitSeq(text, ";") {
			if cookie, value, ok := strings.Cut(strings.TrimSpace(pair), "="); ok {
				e.cookie(prefix, cookie, value)
			}
		}
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
	// What looks like a place for a value is meant as it is; what looks like a credential
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
