package value

import (
	"errors"
	"fmt"
	"strings"

	"testbench/internal/document"
)

// ErrNothing says that a name is known but has no value here; the filter
// default answers it.
var ErrNothing = errors.New("has no value")

// Scope knows where names lead. Lookup gets the space and name of a Ref (for
// "file" the file's name, for now, today, uuid an empty one) and returns
// ErrNothing, wrapped or not, where the filter default may help. Hide is told
// every text that was made from a secret, so that it is masked from then on.
type Scope interface {
	Lookup(space, name string) (*document.Node, error)
	Hide(text string)
}

// NoNames is the scope of what is read before anything has a name.
type NoNames struct{}

// Lookup finds nothing.
func (NoNames) Lookup(string, string) (*document.Node, error) { return nil, ErrNothing }

// Hide has nothing to hide: what is read has not been shown anywhere.
func (NoNames) Hide(string) {}

// Mask is in every output where a secret would be.
const Mask = "[masked]"

// shortSecret is the length in bytes under which a secret is masked only where
// it was put in, for a search would mask innocent text as well.
const shortSecret = 6

// IsShort says whether a secret is too short to be searched for.
func IsShort(secret string) bool { return len(secret) < shortSecret }

// Text is filled-in text: as it is sent, and as it may be shown. The two
// differ only where a short secret stands.
type Text struct {
	Sent, Shown string
	Secret      bool // a secret is part of it
}

// Plain is a text without secrets.
func Plain(s string) Text { return Text{Sent: s, Shown: s} }

// Text fills the template in. place says where the whole text stands; placeholders
// of a body keep the place they were found in.
func (t *Template) Text(scope Scope, place Escaping) (Text, error) {
	if t.IsLiteral() {
		return Plain(t.LiteralText()), nil
	}
	var sent, shown strings.Builder
	secret := false
	for _, p := range t.parts {
		if p.placeholder == nil {
			sent.WriteString(p.literal)
			shown.WriteString(p.literal)
			continue
		}
		where := place
		if p.placeholder.place != Anywhere {
			where = p.placeholder.place
		}
		if p.placeholder != t.parts[0].placeholder && where == Address {
			where = PathSegment
		}
		node, ended, err := p.placeholder.value(scope)
		if err != nil {
			return Text{}, err
		}
		if ended {
			where = Raw
		}
		text, err := where.escape(node)
		if err != nil {
			return Text{}, fmt.Errorf("%s: %w", p.placeholder.Source, err)
		}
		sent.WriteString(text)
		if node.Secret {
			secret = true
			if IsShort(node.Value().Text) {
				text, _ = where.escape(document.NewText(Mask))
			}
		}
		shown.WriteString(text)
	}
	return Text{Sent: sent.String(), Shown: shown.String(), Secret: secret}, nil
}

// Node fills the template in as a value of a tree. A template that is only one
// placeholder keeps the value's type; any other gives a text. typed says whether text
// of the file itself is a typed text (it stood in quotes) or untyped.
func (t *Template) Node(scope Scope, typed bool) (*document.Node, error) {
	if placeholder := t.Whole(); placeholder != nil {
		node, _, err := placeholder.value(scope)
		return node, err
	}
	text, err := t.Text(scope, Raw)
	if err != nil {
		return nil, err
	}
	node := document.NewUntyped(text.Sent)
	if typed {
		node.Kind = document.Text
	}
	node.Secret = text.Secret
	return node, nil
}

// lookup gives what is after the placeholder before any filter.
func (h *Placeholder) lookup(scope Scope) (*document.Node, error) {
	switch {
	case h.fixed != nil:
		return &document.Node{Kind: document.Text, Text: *h.fixed, Secret: true}, nil
	case h.joined != nil:
		text, err := h.joined.Text(scope, Raw)
		return &document.Node{Kind: document.Text, Text: text.Sent, Secret: text.Secret}, err
	}
	return scope.Lookup(h.Space, h.Name)
}

// value looks the placeholder's name up and sends it through the filters. ended says
// that a filter has already made the text fit for where it is.
func (h *Placeholder) value(scope Scope) (node *document.Node, ended bool, err error) {
	node, err = h.lookup(scope)
	if err != nil && !errors.Is(err, ErrNothing) {
		return nil, false, fmt.Errorf("%s: %w", h.Source, err)
	}
	if err == nil && len(h.Tail) > 0 {
		whole := node
		if node = Follow(node, h.Tail); node == nil {
			err = fmt.Errorf("%w: it is %s", ErrNothing, whole.Describe())
		}
	}
	if err != nil {
		node = nil
	}
	for _, filter := range h.Filters {
		if filter.Name == "default" {
			if node == nil || node.Value().IsScalar() && node.Value().Text == "" && node.Value().Kind != document.Null {
				node = document.NewUntyped(filter.Args[0])
			}
			continue
		}
		if node == nil {
			break
		}
		known := filters[filter.Name]
		secret := node.Secret
		if node, err = known.apply(node, filter.Args); err != nil {
			return nil, false, fmt.Errorf("%s: %s: %w", h.Source, filter.Name, err)
		}
		node.Secret = node.Secret || secret
		ended = ended || known.ends
	}
	if node == nil {
		if err == nil {
			err = ErrNothing
		}
		return nil, false, fmt.Errorf("%s: %w", h.Source, err)
	}
	if node.Secret {
		node.Scalars(func(n *document.Node) { scope.Hide(n.Text) })
	}
	return node, ended, nil
}
