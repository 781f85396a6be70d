//go:build peers

package wsdl_test

import (
	"io/fs"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/contract"
	"testbench/internal/contract/source"
	"testbench/internal/contract/wsdl"
)

// brokenByThemselves are the reasons for which an operation of somebody's WSDL cannot be drafted; each is a rule of XML
// Schema or of WSDL that the file breaks, or says that there is nothing to draft.
var brokenByThemselves = []string{
	"a type whose content is all cannot be extended",       // XML Schema 1.0 Part 1, 3.8.6
	"an element of all can occur once at most",             // 3.8.6
	"a simple type cannot be restricted in simpleContent",  // 3.4.2
	"an element needs a name or a ref",                     // 3.3.3
	"there is no type {http://www.w3.org/2001/09/soap-enc", // of a draft of SOAP 1.2, declared nowhere
	"has no request: the service sends it of its own",      // WSDL 1.1, 2.4.4
	"says nothing of what is in its body",                  // it is a request of plain HTTP
}

// WSDLs that others wrote, for the tests of their own toolkits, are read, and each operation is drafted that is not
// broken by itself.
func TestRealWSDLs(t *testing.T) {
	root := "../../../scripts/peers/sources"
	read, drafted, called := 0, 0, 0
	reasons := map[string]int{}
	require.NoError(t, filepath.WalkDir(root, func(file string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(file, ".wsdl") {
			return err
		}
		start := time.Now()
		c, err := wsdl.Load(file, (&source.Source{}).Fetch)
		if err != nil {
			assert.ErrorContains(t, err, "not well-formed XML", file)
			reasons["not well-formed"]++
			return nil
		}
		read++
		assert.NotNil(t, c.Overview(), file)
		for _, op := range c.Operations() {
			b, err := c.Bind(op.Name, "", "")
			if err == nil && !assert.NotNil(t, b, "%s %s", file, op.Name) {
				continue
			}
			if err == nil {
				_, err = b.Draft(contract.DraftOptions{})
			}
			if err == nil {
				drafted++
				continue
			}
			if b != nil && b.Version == "" {
				called++
			}
			known := false
			for _, reason := range brokenByThemselves {
				if strings.Contains(err.Error(), reason) {
					known = true
					reasons[reason]++
				}
			}
			assert.True(t, known, "%s %s: %v", file, op.Name, err)
		}
		assert.Less(t, time.Since(start), 20*time.Second, file)
		return nil
	}))
	t.Logf("%d read, %d operations drafted, %d of plain HTTP; not: %v", read, drafted, called, reasons)
	assert.GreaterOrEqual(t, read, 150, "scripts/test fetches them")
	assert.GreaterOrEqual(t, drafted, 650)
	assert.LessOrEqual(t, reasons["not well-formed"], 1)
}
