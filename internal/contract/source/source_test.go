package source_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/contract/source"
)

func TestWhereAContractMayLead(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "c", "folder"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "c", "a b.xsd"), []byte("file"), 0o644))
	s := &source.Source{
		Dir: dir, Standard: strings.NewReader("standard"), Allowed: func(host string) bool {
			return host == "other.example"
		},
		Get: func(address string, _ bool) ([]byte, bool, error) { return []byte(address), false, nil },
	}
	main := filepath.Join(dir, "c", "main.wsdl")
	for _, c := range []struct{ base, location, want string }{
		{"", "-", "standard"},
		{"", "c/a b.xsd", "file"},
		{main, "a%20b.xsd", "file"},
		{main, "../c/a b.xsd", "file"},
		{"", "http://h.example/x?wsdl", "http://h.example/x?wsdl"},
		{"http://h.example/d/x?wsdl", "y.xsd#part", "http://h.example/d/y.xsd"},
		{"http://h.example/d/x?wsdl", "?xsd=1", "http://h.example/d/x?xsd=1"},
		{"http://h.example/d/main", "//h.example/z", "http://h.example/z"},
		{"http://h.example/d/x", "http://other.example/z", "http://other.example/z"},
		{main, "http://other.example/z", "http://other.example/z"},
	} {
		_, data, err := s.Fetch(c.base, c.location)
		require.NoError(t, err, c.location)
		assert.Equal(t, c.want, string(data), c.location)
	}
	for _, c := range []struct{ base, location, want string }{
		{"", "gone.xsd", "there is no file"},
		{"", "c/folder", "is a folder"},
		{main, "/etc/hostname", "only relative to itself"},
		{main, "gone.xsd", "there is no file"},
		{main, "http://third.example/z", "-allow third.example lets it"},
		{"http://h.example/x", "http://third.example/z", "another host, third.example"},
		{"http://h.example/x", "http://h.example:81/z", "another host, h.example:81"},
		{"http://h.example/x", "file:///etc/hostname", "another host"},
		{"http://h.example/x", "ftp://h.example/z", "only http and https are"},
		{"http://h.example/x", "http://[", "is not an address"},
	} {
		_, _, err := s.Fetch(c.base, c.location)
		assert.ErrorContains(t, err, c.want, c.location)
	}
	s.Get = nil
	_, _, err := s.Fetch("", "http://h.example/x")
	assert.ErrorContains(t, err, "is not fetched here")
}

// What a contract from outside leads to has to lie outside too, whatever its name resolves
// to; a host that the tester allowed is meant.
func TestContractsFromOutside(t *testing.T) {
	asked := map[string]bool{}
	s := &source.Source{Allowed: func(host string) bool {
		return host == "named.example"
	}, Get: func(address string, outside bool) ([]byte, bool, error) {
		asked[address] = outside
		return nil, address != "http://inside.example/x", nil
	}}
	for _, c := range []struct{ base, location string }{
		{"", "http://h.example/x"},
		{"http://h.example/x", "y"},
		{"http://h.example/y", "http://named.example/z"},
	} {
		_, _, err := s.Fetch(c.base, c.location)
		require.NoError(t, err)
	}
	assert.Equal(t, map[string]bool{
		"http://h.example/x": false, "http://h.example/y": true,
		"http://named.example/z": false,
	}, asked)
	for _, c := range []struct{ base, location string }{
		{"", "http://inside.example/x"},
		{"http://inside.example/x", "y"},
	} {
		_, _, err := s.Fetch(c.base, c.location)
		require.NoError(t, err)
	}
	assert.False(t, asked["http://inside.example/y"], "what came from inside may stay inside")
}

// Hundreds of documents that are each within their limits are together none that anybody waits for.
func TestLimitsOfAllDocuments(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := &source.Source{Get: func(string, bool) ([]byte, bool, error) {
			time.Sleep(25 * time.Second)
			return []byte("slow"), false, nil
		}}
		fetched := 0
		var err error
		for ; err == nil && fetched < 200; fetched++ {
			_, _, err = s.Fetch("http://h.example/", "part")
		}
		assert.EqualError(t, err, "http://h.example/part is not fetched: the documents before it already took 5m25s")
		assert.Equal(t, 14, fetched)
	})
	large := make([]byte, 64<<20)
	s := &source.Source{Get: func(string, bool) ([]byte, bool, error) { return large, false, nil }}
	for range 4 {
		_, _, err := s.Fetch("", "http://h.example/")
		require.NoError(t, err)
	}
	_, _, err := s.Fetch("", "http://h.example/")
	assert.EqualError(t, err, "the contract's documents are together larger than 256 MiB")
}
