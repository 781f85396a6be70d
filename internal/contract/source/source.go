// Package source gets the documents that a contract consists of: files, and
// addresses of the contract's own host. It decides where a contract may lead, and
// reads none of it.
package source

import (
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"testbench/internal/httpurl"
	"testbench/internal/safefile"
	"testbench/internal/syntax"
)

// MaxDocument bounds the size of one document. Those of one contract are together no larger than
// MaxAll, and none is begun after maxTime: each has a time limit of its own, and there may be hundreds.
const (
	MaxDocument = 64 << 20
	MaxAll      = 256 << 20
	maxTime     = 5 * time.Minute
)

// Source gets the documents of one contract.
type Source struct {
	// Dir is the folder that file names are relative to.
	Dir string
	// Get fetches an address, outside one that may be public only; nil fetches none. It
	// says whether what answered is public.
	Get func(address string, outside bool) (data []byte, public bool, err error)
	// Allowed says which other hosts a contract may lead to; nil allows none.
	Allowed func(host string) bool
	// Standard, if not nil, is what the name - stands for.
	Standard io.Reader

	public bool // the contract itself came from a public address
	begun  time.Time
	total  int // bytes so far
}

// NoFileError tells that there is no file of that name.
type NoFileError struct{ Name string }

func (e *NoFileError) Error() string { return "there is no file " + e.Name }

// IsAddress says whether a location is an address and not a file name.
func IsAddress(location string) bool {
	scheme, _, found := strings.Cut(location, "://")
	return found && (strings.EqualFold(scheme, "http") || strings.EqualFold(scheme, "https"))
}

// Fetch gets the document that base speaks of as location; an empty base is the
// tester. Resolved tells documents apart.
func (s *Source) Fetch(base, location string) (resolved string, data []byte, err error) {
	location = strings.TrimSpace(location)
	switch {
	case base == "" && location == "-" && s.Standard != nil:
		data, err := io.ReadAll(io.LimitReader(s.Standard, MaxDocument+1))
		return "standard input", data, tooLarge(data, err)
	case IsAddress(location) || IsAddress(base):
		resolved, data, err = s.fetchAddress(base, location)
	default:
		resolved, data, err = s.readFile(base, location)
	}
	if s.total += len(data); err == nil && s.total > MaxAll {
		return "", nil, fmt.Errorf("the contract's documents are together larger than %d MiB", MaxAll>>20)
	}
	return resolved, data, err
}

func tooLarge(data []byte, err error) error {
	if err == nil && len(data) > MaxDocument {
		return fmt.Errorf("it is larger than %d MiB", MaxDocument>>20)
	}
	return err
}

func (s *Source) fetchAddress(base, location string) (string, []byte, error) {
	if httpurl.HasUser(location) {
		return "", nil, httpurl.ErrUser
	}
	target, err := url.Parse(location)
	if err != nil {
		return "", nil, fmt.Errorf("%q is not an address", location)
	}
	home := target
	if IsAddress(base) {
		if home, err = url.Parse(base); err != nil {
			return "", nil, err
		}
		target = home.ResolveReference(target)
	}
	target.Fragment = ""
	if base != "" && !(IsAddress(base) && strings.EqualFold(home.Host, target.Host)) &&
		(s.Allowed == nil || !s.Allowed(target.Hostname())) {
		return "", nil, fmt.Errorf("the contract leads to another host, %s, which is not asked; -allow %s lets it",
			target.Host, target.Hostname())
	}
	if target.Scheme != "http" && target.Scheme != "https" {
		return "", nil, fmt.Errorf("%s is not fetched: only http and https are", target)
	}
	if s.Get == nil {
		return "", nil, fmt.Errorf("%s is not fetched here", target)
	}
	// What came from outside is not to find out what lies inside (and a name may lead
	// inside the second time). A host that the tester named is meant.
	outside := base != "" && s.public && (s.Allowed == nil || !s.Allowed(target.Hostname()))
	if s.begun.IsZero() {
		s.begun = time.Now()
	}
	if spent := time.Since(s.begun); spent > maxTime {
		return "", nil, fmt.Errorf("%s is not fetched: the documents before it already took %s", target,
			spent.Round(time.Second))
	}
	data, public, err := s.Get(target.String(), outside)
	if base == "" {
		s.public = public
	}
	return target.String(), data, tooLarge(data, err)
}

func (s *Source) readFile(base, location string) (string, []byte, error) {
	name := filepath.FromSlash(strings.TrimPrefix(location, "file://"))
	if unescaped, err := url.PathUnescape(name); err == nil && base != "" {
		name = unescaped
	}
	switch {
	case base != "" && safefile.IsRooted(name):
		return "", nil, fmt.Errorf("a contract may name other files only relative to itself")
	case base != "":
		name = filepath.Join(filepath.Dir(base), name)
	case !safefile.IsRooted(name) && s.Dir != "":
		name = filepath.Join(s.Dir, name)
	}
	// What lies in the bench leads to nothing outside of it, neither by its steps nor by a link.
	if base != "" && s.Dir != "" {
		if from, err := filepath.Rel(s.Dir, base); err == nil && filepath.IsLocal(from) {
			to, err := filepath.Rel(s.Dir, name)
			if err == nil {
				_, err = safefile.Inside(s.Dir, to)
			}
			if err != nil {
				return "", nil, err
			}
		}
	}
	name = filepath.ToSlash(name) // as it is shown, on every system
	info, err := os.Stat(name)
	switch {
	case safefile.IsMissing(err):
		return "", nil, &NoFileError{name}
	case err != nil:
		return "", nil, err
	case info.IsDir():
		return "", nil, fmt.Errorf("%s is a folder", name)
	case info.Mode().IsRegular() && info.Size() > MaxDocument:
		return "", nil, fmt.Errorf("%s is larger than %d MiB", name, MaxDocument>>20)
	case !info.Mode().IsRegular() && base != "":
		return "", nil, fmt.Errorf("%s is not a file", name)
	}
	file, err := os.Open(name)
	if err != nil {
		return "", nil, err
	}
	defer file.Close()
	data, err := io.ReadAll(io.LimitReader(file, MaxDocument+1))
	if err := tooLarge(data, err); err != nil {
		return name, nil, err
	}
	return name, data, syntax.CheckConflict(name, data)
}

// Host gives the host of an address.
func Host(address string) (string, bool) {
	u, err := url.Parse(address)
	if err != nil || u.Hostname() == "" {
		return "", false
	}
	return u.Hostname(), true
}
