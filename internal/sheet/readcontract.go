package sheet

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"maps"
	"slices"
	"sync"

	"testbench/internal/contract/formats"
	"testbench/internal/contract/source"
)

// contracts are those that were read. One that could not be fetched is fetched again by
// whoever wants it next: what failed once may work then.
type contracts struct {
	mutex sync.Mutex
	read  map[string]*readContract
}

// readContract is a contract by its place. Its mutex is held while it is read, so that it
// is read once, and nobody waits for another one.
type readContract struct {
	mutex    sync.Mutex
	isRead   bool
	sources  map[string]string // the documents that it consists of, with their digests
	contract *formats.Contract
	err      error // what is wrong with the document
}

func (c *contracts) get(key string, fetch formats.Fetch) (*formats.Contract, error) {
	c.mutex.Lock()
	if c.read == nil {
		c.read = map[string]*readContract{}
	}
	one := c.read[key]
	if one == nil {
		one = &readContract{}
		c.read[key] = one
	}
	c.mutex.Unlock()
	one.mutex.Lock()
	defer one.mutex.Unlock()
	if one.isRead {
		return one.contract, one.err
	}
	sources := map[string]string{}
	contract, err := formats.Load(key, func(base, location string) (string, []byte, error) {
		resolved, data, err := fetch(base, location)
		if err == nil {
			sources[resolved] = digestOf(data)
		}
		return resolved, data, err
	})
	var unread *FetchError
	if err == nil || !errors.As(err, &unread) {
		one.contract, one.err, one.isRead, one.sources = contract, err, true, sources
	}
	return contract, err
}

func digestOf(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// each goes through the contracts that are read.
func (c *contracts) each(do func(key string, one *readContract)) {
	c.mutex.Lock()
	read := maps.Clone(c.read)
	c.mutex.Unlock()
	for key, one := range read {
		one.mutex.Lock()
		do(key, one)
		one.mutex.Unlock()
	}
}

// files are the documents of a contract of the bench.
func (c *contracts) files(key string) []string {
	var names []string
	c.each(func(of string, one *readContract) {
		if of == key {
			names = append(names, slices.Sorted(maps.Keys(one.sources))...)
		}
	})
	return names
}

// fetched are the digests of the documents that came from addresses.
func (c *contracts) fetched() map[string]string {
	out := map[string]string{}
	c.each(func(_ string, one *readContract) {
		for name, digest := range one.sources {
			if source.IsAddress(name) {
				out[name] = digest
			}
		}
	})
	return out
}
