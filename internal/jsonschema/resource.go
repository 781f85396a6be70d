package jsonschema

import (
	"fmt"
	"net/url"
	"path/filepath"
	"strings"

	"testbench/internal/document"
)

// resource is a part of a document that has an address of its own (2020-12, 4.3.5).
type resource struct {
	address string // without a fragment
	root    Location
	draft   draft
	anchors map[string]Location
	// dynamic are the anchors that dynamic references find; of 2019-09, isRecursive says so of the root.
	dynamic     map[string]bool
	isRecursive bool
}

// take finds the resources of a document, each with its anchors. Unless the document says its draft, that is the one
// given.
func (s *Set) take(address string, root Location, d draft) (*resource, error) {
	r, err := s.newResource(address, root, d)
	if err == nil {
		err = s.scan(root, r)
	}
	return r, err
}

// newResource puts in a resource; unless its root says its draft, that is the one given.
func (s *Set) newResource(address string, root Location, d draft) (*resource, error) {
	if said := root.Node.Get("$schema"); said != nil && said.Kind == document.Text {
		known, err := s.draftAt(said.Text)
		if err != nil {
			return nil, fmt.Errorf("the schema at %s: %w", root, err)
		}
		d = known
	}
	r := &resource{
		address: strings.TrimSuffix(address, "#"), root: root, draft: d,
		anchors: map[string]Location{}, dynamic: map[string]bool{},
	}
	s.resources[r.address], s.roots[root.String()] = r, r
	return r, nil
}

// draftAt is the draft that $schema says; where that is a document of its own, the one that it is written in.
func (s *Set) draftAt(address string) (draft, error) {
	if d := draftOf(address); d != 0 {
		return d, nil
	}
	if own, err := s.document(strings.TrimSuffix(address, "#")); err == nil {
		if d := draftOf(own.Node.Get("$schema").Text); d != 0 {
			return d, nil
		}
	}
	return 0, fmt.Errorf("$schema says %s, and the drafts that are known are 4, 6, 7, 2019-09 and 2020-12", address)
}

// scan finds what is named within a schema that is part of a resource.
func (s *Set) scan(at Location, in *resource) error {
	n := at.Node
	if n == nil || n.Kind != document.Object {
		return nil
	}
	// Before 2019-09 what is beside a reference says nothing (draft 7, 8.3).
	if in.draft > draft7 || n.Get("$ref") == nil {
		if id := n.Get(in.draft.idKey()); id != nil && id.Kind == document.Text {
			address, anchor, _ := strings.Cut(id.Text, "#")
			if address != "" {
				own, err := s.newResource(resolveID(in.address, address), at, in.draft)
				if err != nil {
					return err
				}
				if at.Pointer == in.root.Pointer && at.Location == in.root.Location {
					s.resources[in.address] = own // it is found by the address of its file, too
				}
				in = own
			}
			if anchor != "" { // before 2019-09 it is part of the address (draft 7, 8.2.3)
				in.anchors[anchor] = at
			}
		}
		for _, key := range []string{"$anchor", "$dynamicAnchor"} {
			if anchor := n.Get(key); anchor != nil && anchor.Kind == document.Text && in.draft > draft7 {
				in.anchors[anchor.Text] = at
				in.dynamic[anchor.Text] = in.dynamic[anchor.Text] || key == "$dynamicAnchor"
			}
		}
		if isTrue(n.Get("$recursiveAnchor")) && at.String() == in.root.String() {
			in.isRecursive = true
		}
	}
	var err error
	subschemas(at, func(inner Location) {
		if err == nil {
			err = s.scan(inner, in)
		}
	})
	return err
}

// resourceOf is the resource that a place is in.
func (s *Set) resourceOf(at Location) (*resource, error) {
	for pointer := at.Pointer; ; {
		if r := s.roots[at.Location+"#"+pointer]; r != nil {
			return r, nil
		}
		if pointer == "" {
			break
		}
		pointer = pointer[:strings.LastIndexByte(pointer, '/')]
	}
	root := Location{Location: at.Location, Node: s.docs.root(at.Location)}
	if root.Node == nil {
		root.Node = at.Node
	}
	r, err := s.take(fileAddress(at.Location), root, draft2020)
	if err != nil || at.Pointer == "" {
		return s.roots[root.String()], err
	}
	if r == nil {
		return nil, fmt.Errorf("%s is not a schema", at)
	}
	return s.resourceOf(at)
}

// resolve finds what a reference from a resource leads to (RFC 3986, 5; 2020-12, 8.2).
func (s *Set) resolve(from *resource, reference string) (Location, error) {
	address, fragment, _ := strings.Cut(resolveID(from.address, reference), "#")
	r := s.resources[address]
	if r == nil {
		at, err := s.document(address)
		if err != nil {
			return Location{}, fmt.Errorf("$ref %s: %w", reference, err)
		}
		if _, err = s.take(address, at, from.draft); err != nil {
			return Location{}, err
		}
		r = s.resources[address] // or the one that the root says it is
	}
	if unescaped, err := url.PathUnescape(fragment); err == nil {
		fragment = unescaped
	}
	if fragment != "" && fragment[0] != '/' {
		at, ok := r.anchors[fragment]
		if !ok {
			return Location{}, fmt.Errorf("$ref %s leads to nowhere: there is no anchor %s", reference, fragment)
		}
		return at, nil
	}
	return follow(r.root, fragment, reference)
}

// document is the document at an absolute address.
func (s *Set) document(address string) (Location, error) {
	if root := metaschema(address); root != nil {
		return Location{Location: address, Node: root}, nil
	}
	s.docs.mutex.Lock()
	defer s.docs.mutex.Unlock()
	first := ""
	for location, root := range s.docs.roots {
		if fileAddress(location) == address {
			return Location{Location: location, Node: root}, nil
		}
		if first == "" || len(location) < len(first) {
			first = location
		}
	}
	expected := address
	if u, err := url.Parse(address); err == nil && u.Scheme == "file" {
		here, err := filepath.Abs(filepath.Dir(first))
		if err != nil {
			return Location{}, err
		}
		if expected, err = filepath.Rel(here, filepath.FromSlash(u.Path)); err != nil {
			return Location{}, err
		}
	}
	resolved, err := s.docs.file(first, expected)
	if err != nil {
		return Location{}, err
	}
	return Location{Location: resolved, Node: s.docs.roots[resolved]}, nil
}

// fileAddress writes a location as an absolute address.
func fileAddress(location string) string {
	if strings.Contains(location, "://") {
		return location
	}
	full, err := filepath.Abs(location)
	if err != nil {
		full = location
	}
	return (&url.URL{Scheme: "file", Path: filepath.ToSlash(full)}).String()
}
