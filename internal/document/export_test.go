package document

// For tests: messages of any size are read as large ones are.
var (
	ReadMessageJSON = readMessageJSON
	ReadMessageXML  = readMessageXML
)
