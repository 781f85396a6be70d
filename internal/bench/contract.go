package bench

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"maps"
	"slices"
	"sync"

	"testbench/internal/contract"
	"testbench/internal/contract/formats"
	"testbench/internal/contract/source"
	"testbench/internal/exchange"
	"testbench/internal/safefile"
)

// FetchError tells that an address was not reached, or did not give a document.
type FetchError struct {
	Record  *exchange.Record
	Message string
}

func (e *FetchError) Error() string { return e.Record.Request.Shown() + ": " + e.Message }

// Offline reads the contract of a service if that needs nothing sent: one in
// a file, or one that Kept gives. It returns nil for others.
func (b *Bench) Offline(service *Service) (contract.Contract, error) {
	switch {
	case service.Contract == nil || service.IsContractFetched() && b.Kept == nil:
		return nil, nil
	case service.IsContractFetched():
		kept := b.Kept(service)
		if kept == nil {
			return nil, nil
		}
		return contract.Amend(kept, service.Overlays()), nil
	}
	name := service.Contract.LiteralText()
	if _, err := safefile.Inside(b.Dir, name); err != nil {
		return nil, err
	}
	c, err := b.Contracts.Get(name, (&source.Source{Dir: b.Dir}).Fetch)
	if err != nil {
		return nil, err
	}
	return contract.Amend(c, service.Overlays()), nil
}

// IsContractFetched says whether the service has a contract at an address.
func (s *Service) IsContractFetched() bool {
	return s != nil && s.Contract != nil && (!s.Contract.IsLiteral() || source.IsAddress(s.Contract.LiteralText()))
}

// Binding is how the operations of the service's contract are called, unless a step says
// another version of SOAP.
func (s *Service) Binding() contract.Binding { return contract.Binding{Port: s.Port, Version: s.SOAP} }

// OperationsIn lists the operations of a service, as far as they are known without asking
// anybody.
func (b *Bench) OperationsIn(service *Service) []string {
	names := service.OperationNames()
	c, err := b.Offline(service)
	if err == nil && c != nil {
		names = append(names, c.Names(service.Binding())...)
	}
	return names
}

// SiteHasAddress says whether a site, or each where name is empty, gives the service an address.
func (b *Bench) SiteHasAddress(service string) bool {
	for _, site := range b.Sites {
		if site.Services[service] != nil {
			return true
		}
	}
	return false
}

// ContractCache are those that were read. One that could not be fetched is fetched again by
// whoever wants it next: what failed once may work then.
type ContractCache struct {
	mutex sync.Mutex
	read  map[string]*readContract
}

// readContract is a contract by its place. Its mutex is locked while it is read, so that it
// is read once, and nobody waits for another one.
type readContract struct {
	mutex    sync.Mutex
	isRead   bool
	sources  map[string]string // the documents that it consists of, with their digests
	contract contract.Contract
	err      error // what is wrong with the document
}

// Get reads the contract of that name, once for all who ask for it.
func (c *ContractCache) Get(key string, fetch formats.Fetch) (contract.Contract, error) {
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

// Known is the contract of that name; nil where it was not read, or cannot be used.
func (c *ContractCache) Known(key string) contract.Contract {
	c.mutex.Lock()
	one := c.read[key]
	c.mutex.Unlock()
	if one == nil {
		return nil
	}
	one.mutex.Lock()
	defer one.mutex.Unlock()
	if one.err != nil {
		return nil
	}
	return one.contract
}

func digestOf(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// each goes through the contracts that are read.
func (c *ContractCache) each(do func(key string, one *readContract)) {
	c.mutex.Lock()
	read := maps.Clone(c.read)
	c.mutex.Unlock()
	for key, one := range read {
		one.mutex.Lock()
		do(key, one)
		one.mutex.Unlock()
	}
}

// Files are the documents of a contract of the bench.
func (c *ContractCache) Files(key string) []string {
	var names []string
	c.each(func(of string, one *readContract) {
		if of == key {
			names = append(names, slices.Sorted(maps.Keys(one.sources))...)
		}
	})
	return names
}

// Fetched are the digests of the documents that came from addresses.
func (c *ContractCache) Fetched() map[string]string {
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
