package mapping

import (
	"testbench/internal/document"
	"testbench/internal/yamlfile"
)

// AnswerAsHelp says what the key is for.
const AnswerAsHelp = "what answers are read as, whatever their media type says; as that says unless said"

// AnswerAs reads what answers are read as, and gives its media type.
func (r *Reader) AnswerAs(n *yamlfile.Node) string {
	return document.ReadingType(r.Choice(n, "form of answers", document.Readings()...))
}
