package standin

import (
	_ "embed" // keys that everybody may know

	"testbench/internal/keys"
)

// The keys of the demo: Bryony's, with which the bench signs, and the lab's.
var (
	//go:embed demo/certs/bryony.pem
	bryonyCertificate string
	//go:embed keys/bryony-key.pem
	bryonyKey string
	//go:embed demo/certs/lab.pem
	labCertificate string
	//go:embed keys/lab-key.pem
	labKey string
)

// pairOf reads a certificate with its key.
func pairOf(certificate, key string) (*keys.Pair, error) {
	return keys.Read([]byte(certificate), []byte(key), "")
}
