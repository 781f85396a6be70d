//go:build peers

package main_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Client libraries that others wrote get valid answers of simulated services from every
// operation of the contracts of the demo, and are refused what breaks the contract.
func TestSimulatedForForeignClients(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	require.NoError(t, os.WriteFile(filepath.Join(p.dir, "contracts", "scale.wsdl"), scaleContract(t), 0o600))
	ofSet := " list read create change replace remove count"
	for _, c := range []struct {
		contract, client string
		command          []string
		operations       string // each answered, a set's as SET: NAME NAME
		says             []string
	}{
		{
			"contracts/lab.wsdl", "lab",
			[]string{"php", "testdata/php/simulated.php"},
			"GradeLot ConvertIndex RegisterAnalysis FileCertificate",
			[]string{`"lot":"L-2201"`, "refused soap:Client"},
		},
		{
			"contracts/scale.wsdl", "scale",
			[]string{"php", "testdata/php/simulated.php"},
			"Weigh WeighAll",
			[]string{`"tickets":[{"number":`, "refused soap:Client"},
		},
		{
			"contracts/lab.wsdl", "soap",
			[]string{"node", "testdata/node/foreign.cjs", peersFolder},
			"GradeLot ConvertIndex",
			[]string{`GradeLot {"lot":"L-2201"`, "refused"},
		},
		{
			"contracts/stores.yaml", "openapi",
			[]string{"node", "testdata/node/foreign.cjs", peersFolder},
			"search lot move",
			[]string{`lot {"id":"L-2201"`, "refused 400"},
		},
		{
			"contracts/ledger.xml", "odata",
			[]string{"node", "testdata/node/foreign.cjs", peersFolder},
			"Suppliers:" + ofSet + " orders.list orders.create orders.count\nPurchaseOrders:" + ofSet +
				" supplier.read Post\nPurchaseOrders('P-1')/lines:" + ofSet + "\nIntakes:" + ofSet + "\nOpenTotal",
			[]string{
				`Suppliers.create {"number":"text","name":"Moor & Söhne"`, "Suppliers.count 1",
				"wrong FAULT name must be text, and is 5",
			},
		},
		{
			"contracts/ledger-2.xml", "odata2",
			[]string{"node", "testdata/node/foreign.cjs", peersFolder},
			"Suppliers:" + ofSet + " orders.list orders.create orders.count\nPurchaseOrders:" + ofSet +
				" supplier.read\nPurchaseOrders('P-1')/lines:" + ofSet + "\nOpenTotal Post",
			[]string{`"since":"/Date(1777852800000)/"`, "Suppliers.count 1", "wrong FAULT name must be text, and is 5"},
		},
	} {
		address, _ := p.serving("standin", "-contract", c.contract, "-listen", "127.0.0.1:0")
		command := append(slices.Clone(c.command), c.client, address)
		if c.command[0] == "php" {
			command = append(slices.Clone(c.command), address, c.client)
		}
		said, err := exec.Command(command[0], command[1:]...).CombinedOutput()
		require.NoError(t, err, "%s: %s", c.client, said)
		answers := map[string]string{}
		for line := range strings.Lines(string(said)) {
			name, answer, _ := strings.Cut(strings.TrimSpace(line), " ")
			answers[name] = answer
		}
		for line := range strings.Lines(c.operations) {
			set, names, isSet := strings.Cut(strings.TrimSpace(line), ": ")
			if !isSet {
				names = line
			}
			for _, name := range strings.Fields(names) {
				if isSet {
					name = set + "." + name
				}
				if assert.Contains(t, answers, name, c.client) {
					assert.NotContains(t, answers[name], "FAULT", "%s: %s", c.client, name)
				}
			}
		}
		for _, says := range c.says {
			assert.Contains(t, string(said), says, c.client)
		}
	}
}
