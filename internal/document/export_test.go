package document

// For tests: messages of any size are read as large ones are, and parts of any size are left unread.
var always = leaving{from: 1, readings: mostReadings}

func ReadMessageJSON(data []byte) (*Node, error) { return readMessageJSON(data, always) }

func ReadMessageXML(data []byte) (*Node, error) { return readMessageXML(data, "", always) }
