package mapping

import (
	"slices"
	"strings"
	"time"

	"testbench/internal/path"
	"testbench/internal/request"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Key is one key of a mapping in a file: what it is called, what it holds and
// how it is read. The tables of keys are the file formats.
type Key[T any] struct {
	Name  string
	Holds string // in words, for messages and schemas
	Read  func(r *Reader, into *T, n *yamlfile.Node)
}

// NewKey returns a key of a table.
func NewKey[T any](name, holds string, read func(r *Reader, into *T, n *yamlfile.Node)) Key[T] {
	return Key[T]{name, holds, read}
}

// fieldKey returns a key whose value goes into one field as it is read.
func fieldKey[T, V any](name, holds string, field func(*T) *V, read func(*Reader, *yamlfile.Node) V) Key[T] {
	return Key[T]{name, holds, func(r *Reader, into *T, n *yamlfile.Node) {
		v := read(r, n) // before the field is looked for, which is not there while a reader is asked what it takes
		*field(into) = v
	}}
}

// TextKey returns a key with a text, in which no placeholder may be.
func TextKey[T any](name, holds string, field func(*T) *string) Key[T] {
	return fieldKey(name, holds, field, (*Reader).PlainText)
}

// TextsKey returns a key with a list of texts.
func TextsKey[T any](name, holds string, field func(*T) *[]string) Key[T] {
	return fieldKey(name, holds, field, (*Reader).Texts)
}

// YesKey returns a key with true or false.
func YesKey[T any](name, holds string, field func(*T) *bool) Key[T] {
	return fieldKey(name, holds, field, (*Reader).Yes)
}

// DurationKey returns a key with a time: 5 s.
func DurationKey[T any](name, holds string, field func(*T) *time.Duration) Key[T] {
	return fieldKey(name, holds, field, (*Reader).Duration)
}

// TimeoutKey returns a key with a time over 0.
func TimeoutKey[T any](name, holds string, field func(*T) *time.Duration) Key[T] {
	return fieldKey(name, holds, field, (*Reader).Timeout)
}

// TemplateKey returns a key with a text that may have placeholders.
func TemplateKey[T any](name, holds string, field func(*T) **value.Template) Key[T] {
	return fieldKey(name, holds, field, (*Reader).Template)
}

// SecretKey returns a key with a credential.
func SecretKey[T any](name, holds string, field func(*T) **value.Template) Key[T] {
	return fieldKey(name, holds, field, (*Reader).Secret)
}

// AddressKey returns a key with an address.
func AddressKey[T any](name, holds string, field func(*T) **value.Template) Key[T] {
	return fieldKey(name, holds, field, (*Reader).Address)
}

// TreeKey returns a key with a value of any shape.
func TreeKey[T any](name, holds string, field func(*T) **request.Tree) Key[T] {
	return fieldKey(name, holds, field, (*Reader).Tree)
}

// PathKey returns a key with a path.
func PathKey[T any](name, holds string, field func(*T) **path.Path) Key[T] {
	return fieldKey(name, holds, field, (*Reader).Path)
}

// KeysWithin gives the keys of a part of what a mapping is read into.
func KeysWithin[T, U any](keys []Key[U], part func(*T) *U) []Key[T] {
	out := make([]Key[T], len(keys))
	for i, k := range keys {
		out[i] = Key[T]{k.Name, k.Holds, func(r *Reader, into *T, n *yamlfile.Node) { k.Read(r, part(into), n) }}
	}
	return out
}

// KeyNames are the names of the keys of a table.
func KeyNames[T any](keys []Key[T]) []string {
	names := make([]string, len(keys))
	for i, k := range keys {
		names[i] = k.Name
	}
	return names
}

// KeysOf lists keys: names with commas between, and those that several mappings have.
func KeysOf(names string, shared ...[]string) []string {
	return append(strings.Split(names, ", "), slices.Concat(shared...)...)
}
