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
			assert.True(t, rule.IsKind(map[bool]string{true: "decimal 2", false: name}[name == "decimal"],
				document.NewUntyped(text)), "%s: %s", name, text)
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

// A moment is equal to a moment only.
func TestMomentsAndOthers(t *testing.T) {
	for source, want := range map[string]bool{
		`datetime("2026-11-01T08:00:00Z") == "no time"`:                             false,
		`"0001-01-01T00:00:00Z" != datetime("2026-11-01T08:00:00Z")`:                true,
		`datetime("2026-11-01T08:00:00Z") == datetime("2026-11-01T09:00:00+01:00")`: true,
		`datetime("0001-01-01T00:00:00Z") == "no time"`:                             false,
	} {
		c, err := rule.CompileCondition(source)
		assert.NoError(t, err)
		assert.Equal(t, want, c.Judge(&rule.Data{}).Passed, source)
	}
}
