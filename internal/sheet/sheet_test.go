package sheet

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/request"
	"testbench/internal/value"
)

// The kind of a body is that of the step's content type, else of the file's ending, else of how it begins.
func TestTextFormat(t *testing.T) {
	for name, c := range map[string]struct {
		header, content, file, text string
		want                        document.Format
	}{
		"begins as JSON":                    {text: `{"a": 1}`, want: document.JSON},
		"begins as XML":                     {text: "<a/>", want: document.XML},
		"is text":                           {text: "a", want: document.Plain},
		"is in a file":                      {file: "lots.JSON", text: "<a/>", want: document.JSON},
		"is in a table":                     {file: "lots.csv", text: "{", want: document.Plain},
		"is said by the step":               {"content-type", "application/xml", "lots.json", "{", document.XML},
		"is said by another header":         {"X-Content", "application/xml", "lots.json", "{", document.JSON},
		"is said by a placeholder":          {"Content-Type", "${kind}", "lots.json", "<a/>", document.JSON},
		"is said by a placeholder, no file": {"Content-Type", "${kind}", "", "<a/>", document.XML},
	} {
		t.Run(name, func(t *testing.T) {
			s := &Step{}
			if c.header != "" {
				content, err := value.Parse(c.content)
				require.NoError(t, err)
				s.Spec.Headers = []request.Pair{{Name: c.header, Value: &request.Tree{Scalar: content}}}
			}
			assert.Equal(t, c.want, s.TextFormat(c.file, c.text))
		})
	}
}
