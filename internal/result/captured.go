package result

import (
	"strings"

	"testbench/internal/exchange"
)

// IsEnvelope says whether a request carries a SOAP envelope.
func IsEnvelope(r *exchange.Request) bool {
	return strings.Contains(string(r.Body[:min(len(r.Body), 2000)]), ":Envelope")
}
