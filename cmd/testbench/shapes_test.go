package main_test

import (
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Of a contract with odd shapes (a bare simple payload, two bare parts, an empty
// message, header blocks, abstract types, rpc by value and encoded) every operation
// can be drafted as a step that runs; what it sends is valid, and a drafted answer
// is taken for one.
func TestShapes(t *testing.T) {
	slow(t)
	t.Parallel()
	contract, err := os.ReadFile("testdata/hall.wsdl")
	require.NoError(t, err)
	var sent lastBody
	var answer atomic.Value
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		sent.take(r)
		w.Header().Set("Content-Type", "text/xml; charset=utf-8")
		_, _ = io.WriteString(w, answer.Load().(string))
	}))
	defer server.Close()
	p := newPlace(t)
	p.write("hall.wsdl", string(contract))
	bench := "bench: hall\nsites:\n  local:\n    set:\n      base: " + server.URL + "\nservices:\n"
	for _, port := range []string{"", "Pack", "Shelve"} {
		bench += "  hall" + strings.ToLower(port) + ":\n    address: ${base}/hall\n    contract: hall.wsdl\n"
	}
	p.write("bench.yaml", bench)
	for _, operation := range []string{"Press", "Count", "Two", "Ring", "Nil", "Pack", "Shelve"} {
		for _, only := range []bool{false, true} {
			more := []string{}
			if only {
				more = []string{"-only", "required"}
			}
			answer.Store(p.run(append([]string{"draft", "hall", operation, "-answer"}, more...)...).stdout)
			step := p.run(append([]string{"draft", "hall", operation, "-as", "step"}, more...)...)
			require.Equal(t, 0, step.status, step.all())
			o := p.sheet("sheet: shape\nsteps:\n" + step.stdout)
			assert.Equal(t, 0, o.status, "%s\n%s\n%s", operation, step.stdout, o.all())
			p.write("sent.xml", sent.text())
			valid := p.run("validate", "hall.wsdl", "sent.xml")
			assert.Equal(t, 0, valid.status, "%s\n%s\n%s", operation, valid.all(), sent.text())
		}
	}
}
