package demo

import (
	_ "embed" // keys that everybody may know

	"testbench/internal/keys"
)

// The keys of the demo: Bryony's, with which the bench signs, and the lab's.
var (
	//go:embed bench/certs/bryony.pem
	BryonyCertificate string
	//go:embed keys/bryony-key.pem
	BryonyKey string
	//go:embed bench/certs/lab.pem
	LabCertificate string
	//go:embed keys/lab-key.pem
	LabKey string
)

// The lab's contract, with @BASE@ in place of the address of the stand-in.
var (
	//go:embed lab.wsdl
	LabWSDL string
	//go:embed lab.xsd
	LabXSD string
)

// Pair reads a certificate with its key.
func Pair(certificate, key string) (*keys.Pair, error) {
	return keys.Read([]byte(certificate), []byte(key), "")
}
