package contract

import (
	"errors"
	"fmt"
	"io"

	"testbench/internal/document"
	"testbench/internal/xsd"
)

// maxMessage bounds a message that is read as a whole, in bytes.
const maxMessage = 256 << 20

// ReadMessage reads JSON or XML; what is not well-formed is one fault, and gives nil.
func ReadMessage(in io.Reader, report func(xsd.Fault)) (*document.Node, error) {
	data, err := io.ReadAll(io.LimitReader(in, maxMessage+1))
	if err != nil {
		return nil, err
	}
	if len(data) > maxMessage {
		return nil, fmt.Errorf("it is larger than %d MiB", maxMessage>>20)
	}
	read := document.ReadPlacedJSON
	if document.Guess(data) == document.XML {
		read = func(data []byte) (*document.Node, error) { return document.ReadXML(data, "") }
	}
	body, err := read(data)
	var syntax *document.Error
	if errors.As(err, &syntax) {
		report(xsd.Fault{
			Line: syntax.Line, Column: syntax.Column,
			Message: "not well-formed " + syntax.Format + ": " + syntax.Message,
		})
		return nil, nil
	}
	return body, err
}
