package xsd

import (
	"embed"
	"path"
)

//go:embed wellknown/*.xsd
var wellKnownFiles embed.FS

// wellKnown are declarations of namespaces that schemas import without a
// location, or with one that need not be reached. They are written here from
// what the standards say of them; nothing is fetched.
var wellKnown = map[string]string{
	"http://www.w3.org/XML/1998/namespace":      wellKnownFile("xml"),
	"http://schemas.xmlsoap.org/soap/envelope/": wellKnownFile("soap-envelope"),
	"http://schemas.xmlsoap.org/soap/encoding/": wellKnownFile("soap-encoding-1.1"),
	"http://www.w3.org/2003/05/soap-encoding":   wellKnownFile("soap-encoding-1.2"),
	"http://www.w3.org/1999/xlink":              wellKnownFile("xlink"),
	"http://www.w3.org/2005/05/xmlmime":         wellKnownFile("xmlmime"),
	"http://www.w3.org/2004/08/xop/include":     wellKnownFile("xop-include"),
	"http://www.w3.org/2005/08/addressing":      wellKnownFile("addressing"),
	"http://www.w3.org/2000/09/xmldsig#":        wellKnownFile("xmldsig"),
	wssUtility:                                  wellKnownFile("wss-utility"),
	"http://xml.apache.org/xml-soap":            wellKnownFile("apache-soap"),
}

const wssUtility = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd"

func wellKnownFile(name string) string {
	text, err := wellKnownFiles.ReadFile(path.Join("wellknown", name+".xsd"))
	if err != nil {
		panic(err) // it is a part of the program
	}
	return string(text)
}
