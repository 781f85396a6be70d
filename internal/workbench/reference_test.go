package workbench_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"testbench/internal/value"
	"testbench/internal/workbench"
)

// Every word of the reference has its sentence, and every placeholder in it can be written.
func TestReference(t *testing.T) {
	for _, topic := range workbench.Reference() {
		assert.NotEmpty(t, topic.Entries, topic.Name)
		for _, e := range topic.Entries {
			assert.NotEmpty(t, e.About, "%s: %s", topic.Name, e.Form)
			if (topic.Name == "placeholders" || topic.Name == "filters") && e.Example != "" {
				_, err := value.Parse(e.Example)
				assert.NoError(t, err, e.Example)
			}
		}
	}
}
