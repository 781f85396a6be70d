// Package httpsign makes and checks HTTP message signatures (RFC 9421) and the
// digests of contents that they cover (RFC 9530). It sends nothing and holds
// no keys.
package httpsign

import (
	"crypto/sha256"
	"crypto/sha512"
	"crypto/subtle"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/dunglas/httpsfv"
)

// Message is a request or an answer, as far as signatures look at it.
type Message struct {
	Method string
	URL    *url.URL // absolute
	Host   string   // of the Host field, where it is not the address's
	Header http.Header
	Status int // of an answer; 0 for a request
	// Request is what an answer answers, for components with the parameter req.
	Request *Message
}

// Component is one thing that is covered: a field name in lower case or a
// derived component that begins with @ (section 2), with its parameters.
type Component struct {
	httpsfv.Item
}

// Name is the component's name.
func (c Component) Name() string { name, _ := c.Value.(string); return name }

func (c Component) has(parameter string) bool { _, ok := c.Params.Get(parameter); return ok }

// ParseComponent reads a component as a file writes it: a name alone
// (@method, content-digest), or an identifier with its parameters
// ("@query-param";name="lot").
func ParseComponent(text string) (Component, error) {
	source := text
	if !strings.HasPrefix(text, `"`) {
		name, parameters, found := strings.Cut(text, ";")
		text = strconv.Quote(strings.ToLower(strings.TrimSpace(name)))
		if found {
			text += ";" + parameters
		}
	}
	item, err := httpsfv.UnmarshalItem([]string{text})
	if err != nil {
		return Component{}, fmt.Errorf("%q is not a component to sign (RFC 9421, section 2): %w", source, err)
	}
	name, ok := item.Value.(string)
	if !ok || name == "" || name != strings.ToLower(name) {
		return Component{}, fmt.Errorf(
			"%q is not a component to sign: a field's name in lower case is expected, or one of %s", source,
			strings.Join(Derived, ", "))
	}
	if name[0] == '@' && !slices.Contains(Derived, name) {
		return Component{}, fmt.Errorf("%q is not a derived component; there are: %s", name,
			strings.Join(Derived, ", "))
	}
	return Component{item}, nil
}

// Derived lists the derived components (section 2.2).
var Derived = []string{
	"@method", "@target-uri", "@authority", "@scheme", "@request-target", "@path", "@query",
	"@query-param", "@status",
}

// Base makes the signature base (section 2.5) and the text of the signature
// parameters, which is also the member of Signature-Input.
func Base(m *Message, components []Component, parameters *httpsfv.Params) (base, input string, err error) {
	list := httpsfv.InnerList{Params: parameters}
	var out strings.Builder
	seen := map[string]bool{}
	for _, c := range components {
		identifier, err := httpsfv.Marshal(c.Item)
		if err != nil {
			return "", "", err
		}
		if seen[identifier] {
			return "", "", fmt.Errorf("the component %s is there twice", identifier)
		}
		seen[identifier] = true
		text, err := m.value(c)
		if err != nil {
			return "", "", fmt.Errorf("the component %s: %w", identifier, err)
		}
		if strings.ContainsAny(text, "\r\n") {
			return "", "", fmt.Errorf("the component %s holds a line break", identifier)
		}
		out.WriteString(identifier + ": " + text + "\n")
		list.Items = append(list.Items, c.Item)
	}
	if input, err = httpsfv.Marshal(list); err != nil {
		return "", "", err
	}
	out.WriteString(`"@signature-params": ` + input)
	return out.String(), input, nil
}

func (m *Message) value(c Component) (string, error) {
	if c.has("req") {
		if m.Request == nil {
			return "", errors.New("there is no request that it could belong to")
		}
		m = m.Request
	}
	name := c.Name()
	if name[0] == '@' {
		return m.derived(c)
	}
	if c.has("tr") {
		return "", errors.New("trailers are not covered here")
	}
	var values []string
	for field, texts := range m.Header {
		if strings.EqualFold(field, name) {
			values = append(values, texts...)
		}
	}
	if values == nil && name == "host" && m.URL != nil {
		values = []string{m.authority()}
	}
	if values == nil {
		return "", errors.New("the message has no such field")
	}
	switch {
	case c.has("sf"):
		return strict(values)
	case c.has("key"):
		return dictionaryMember(values, c)
	case c.has("bs"):
		return binary(values)
	}
	for i, text := range values {
		values[i] = strings.Join(strings.Fields(text), " ")
		if !strings.ContainsAny(text, "\r\n\t") {
			values[i] = strings.TrimSpace(text) // blanks inside stay (section 2.1)
		}
	}
	return strings.Join(values, ", "), nil
}

func (m *Message) authority() string {
	host := m.Host
	if host == "" {
		host = m.URL.Host
	}
	host = strings.ToLower(host)
	// The default port is left out (section 2.2.3).
	switch m.URL.Scheme {
	case "http":
		host = strings.TrimSuffix(host, ":80")
	case "https":
		host = strings.TrimSuffix(host, ":443")
	}
	return host
}

// derived gives the value of a derived component (section 2.2).
func (m *Message) derived(c Component) (string, error) {
	if c.Name() == "@status" {
		if m.Status == 0 {
			return "", errors.New("a request has no status")
		}
		return strconv.Itoa(m.Status), nil
	}
	if m.URL == nil || m.Status != 0 {
		return "", errors.New("an answer has none: add ;req to cover that of its request")
	}
	switch c.Name() {
	case "@method":
		return m.Method, nil
	case "@authority":
		return m.authority(), nil
	case "@scheme":
		return strings.ToLower(m.URL.Scheme), nil
	case "@path":
		if path := m.URL.EscapedPath(); path != "" {
			return path, nil
		}
		return "/", nil
	case "@query":
		return "?" + m.URL.RawQuery, nil
	case "@request-target":
		return m.URL.RequestURI(), nil
	case "@target-uri":
		target := *m.URL
		target.Fragment = ""
		target.Host = m.URL.Host
		return target.String(), nil
	}
	return m.queryParameter(c)
}

// queryParameter gives the value of one query parameter, encoded anew (2.2.8).
func (m *Message) queryParameter(c Component) (string, error) {
	named, _ := c.Params.Get("name")
	name, ok := named.(string)
	if !ok {
		return "", errors.New(`it wants a parameter: ;name="…"`)
	}
	if decoded, err := url.QueryUnescape(name); err == nil {
		name = decoded
	}
	values, err := url.ParseQuery(m.URL.RawQuery)
	if err != nil {
		return "", err
	}
	switch found := values[name]; len(found) {
	case 0:
		return "", fmt.Errorf("the query has no %s", name)
	case 1:
		return strings.ReplaceAll(url.QueryEscape(found[0]), "+", "%20"), nil
	default:
		return "", fmt.Errorf("%s is in the query several times", name)
	}
}

// strict writes a structured field anew (section 2.1.1).
func strict(values []string) (string, error) {
	if list, err := httpsfv.UnmarshalList(values); err == nil {
		if len(values) == 1 {
			if item, err := httpsfv.UnmarshalItem(values); err == nil {
				return httpsfv.Marshal(item)
			}
		}
		if dictionary, err := httpsfv.UnmarshalDictionary(values); err == nil && strings.Contains(values[0], "=") {
			return httpsfv.Marshal(dictionary)
		}
		return httpsfv.Marshal(list)
	}
	dictionary, err := httpsfv.UnmarshalDictionary(values)
	if err != nil {
		return "", fmt.Errorf("it is not a structured field: %w", err)
	}
	return httpsfv.Marshal(dictionary)
}

func dictionaryMember(values []string, c Component) (string, error) {
	key, _ := c.Params.Get("key")
	dictionary, err := httpsfv.UnmarshalDictionary(values)
	if err != nil {
		return "", fmt.Errorf("it is not a dictionary: %w", err)
	}
	member, ok := dictionary.Get(fmt.Sprint(key))
	if !ok {
		return "", fmt.Errorf("it has no member %v", key)
	}
	switch m := member.(type) {
	case httpsfv.Item:
		return httpsfv.Marshal(m)
	case httpsfv.InnerList:
		return httpsfv.Marshal(m)
	}
	return "", fmt.Errorf("its member %v cannot be written", key)
}

// binary wraps each field line as a byte sequence (section 2.1.3).
func binary(values []string) (string, error) {
	var list httpsfv.List
	for _, text := range values {
		list = append(list, httpsfv.NewItem([]byte(strings.TrimSpace(text))))
	}
	return httpsfv.Marshal(list)
}

// Digests lists the hash algorithms of digest fields that are safe (RFC 9530,
// section 5).
var Digests = []string{"sha-256", "sha-512"}

func sum(algorithm string, content []byte) []byte {
	switch algorithm {
	case "sha-256":
		hash := sha256.Sum256(content)
		return hash[:]
	case "sha-512":
		hash := sha512.Sum512(content)
		return hash[:]
	}
	return nil
}

// ContentDigest writes a Content-Digest field (RFC 9530, section 2).
func ContentDigest(algorithm string, content []byte) (string, error) {
	hash := sum(algorithm, content)
	if hash == nil {
		return "", fmt.Errorf("there is no digest %q; there are: %s", algorithm, strings.Join(Digests, ", "))
	}
	d := httpsfv.NewDictionary()
	d.Add(algorithm, httpsfv.NewItem(hash))
	return httpsfv.Marshal(d)
}

// CheckDigest holds a content against a Content-Digest field. Algorithms that
// are not known are passed over; one that is known must fit.
func CheckDigest(field []string, content []byte) error {
	d, err := httpsfv.UnmarshalDictionary(field)
	if err != nil {
		return fmt.Errorf("Content-Digest is not a dictionary (RFC 9530, section 2): %w", err)
	}
	known := false
	for _, algorithm := range d.Names() {
		want := sum(algorithm, content)
		if want == nil {
			continue
		}
		known = true
		member, _ := d.Get(algorithm)
		item, _ := member.(httpsfv.Item)
		got, _ := item.Value.([]byte)
		if subtle.ConstantTimeCompare(got, want) != 1 {
			return fmt.Errorf("the digest %s is not that of the content", algorithm)
		}
	}
	if !known {
		return fmt.Errorf("Content-Digest names no known algorithm (%s)", strings.Join(d.Names(), ", "))
	}
	return nil
}
