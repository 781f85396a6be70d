package rule_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"testbench/internal/document"
	"testbench/internal/rule"
)

// Every form that the reference tells can be written, and its example is it.
func TestHelp(t *testing.T) {
	for _, w := range rule.Reference() {
		_, err := rule.Parse(w.Example, false)
		assert.NoError(t, err, w.Example)
		assert.NotEmpty(t, w.About)
	}
	for _, name := range rule.KindNames() {
		assert.NotEmpty(t, rule.KindHelp(name).About, name)
		if text := rule.KindHelp(name).Example; text != "" {
			assert.True(t, rule.IsKind(map[bool]string{true: "decimal 2", false: name}[name == "decimal"], document.NewUntyped(text)), "%s: %s", name, text)
		}
	}
	for _, name := range rule.FunctionNames() {
		f := rule.FunctionHelp(name)
		assert.NotEmpty(t, f.About, name)
		_, err := rule.CompileCondition(f.Example)
		assert.NoError(t, err, f.Example)
		assert.True(t, strings.Contains(f.Example, name+"("), f.Example)
	}
}
