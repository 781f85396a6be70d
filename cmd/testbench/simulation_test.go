package main_test

import (
	"encoding/json"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// simulated is a bench that talks to a service simulated by a contract.
func (p *place) simulated(service, contract string, more ...string) (asked func() string) {
	p.t.Helper()
	args := append([]string{"standin", "-contract", contract, "-listen", "127.0.0.1:0"}, more...)
	address, stop := p.serving(args...)
	from := map[string]string{
		"wsdl": "?wsdl", "yaml": "openapi.yaml", "xml": "$metadata",
		"wadl": "index.wadl",
	}[contract[strings.LastIndexByte(contract, '.')+1:]]
	bench := "bench: simulated\nsites:\n  local: {}\nservices:\n  " + service + ":\n    contract: " + address + "/" +
		from + "\n    address: " + address + "\n"
	p.write("sim/bench.yaml", bench)
	return func() string {
		_, said := stop()
		return said
	}
}

// in runs the program on the bench of the simulated service.
func (p *place) in(args ...string) outcome {
	q := *p
	q.dir = p.dir + "/sim"
	return q.run(args...)
}

// Each operation of the demo's contracts is answered by a valid sample, which the program
// itself finds nothing wrong with; what breaks the contract is refused as its standard says.
func TestSimulatedByContract(t *testing.T) {
	slow(t)
	t.Parallel()
	p, _ := newBench(t)
	for contract, calls := range map[string][][2]string{
		"contracts/lab.wsdl": {
			{"GradeLot lot=L-2201 moisture=17", ""},
			{"ConvertIndex refractiveIndex=1.494", ""},
			{"GradeLot lot=L-2201 moisture=17 -soap 1.2", ""},
			{"GradeLot lot=X moisture=17 -contract answer", "does not match the pattern"},
		},
		"contracts/stores.yaml": {
			{"search X-Depot=north grade=A", ""},
			{"search X-Depot=north grade=A grade=B", ""},
			{"lot X-Depot=north id=L-2201", ""},
			{"move X-Depot=north lot=L-2201 to=south", ""},
			{"search grade=A -contract answer", "header X-Depot is missing"},
			{"search X-Depot=north grade=Z -contract answer", "grade"},
			{"move X-Depot=north lot=L-2201 -contract answer", "to"},
		},
		"contracts/ledger.xml": {
			{"Suppliers.list top=2", ""},
			{"Suppliers.read number=S-1", ""},
			{"Suppliers.create number=S-1 name=n city=c -contract answer", ""},
			{"Suppliers.count", ""},
		},
		"contracts/index.wadl": {{"prices fd=1 fm=11 fy=2026 -contract request", ""}},
	} {
		asked := p.simulated("s", contract)
		for _, c := range calls {
			operation, rest, _ := strings.Cut(c[0], " ")
			o := p.in(append([]string{"call", "s/" + operation}, strings.Fields(rest)...)...)
			if c[1] == "" {
				assert.Equal(t, 0, o.status, "%s: %s", c[0], o.all())
				continue
			}
			assert.Equal(t, 1, o.status, "%s: %s", c[0], o.all())
			assert.Contains(t, o.all(), c[1])
		}
		assert.NotContains(t, asked(), "panic")
	}
}

const partnerScript = `state:
  weighed: 0
answers:
  - operation: GradeLot
    asked:
      moisture: over 25
    says:
      fault:
        code: Client
        text: lot ${asked.lot} is too moist
  - operation: GradeLot
    while:
      weighed: L-2202
    says:
      body:
        lot: ${asked.lot}
        grade: C
  - operation: GradeLot
    times: 1
    says:
      body:
        lot: ${asked.lot}
        grade: B
    after: 30 ms
    from now:
      weighed: ${asked.lot}
`

// A script says where another answer is expected, with values of the request, delays and
// what holds from now on; what was asked is recorded, and past exchanges are played again.
func TestSimulationScript(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	p.write("partner.yaml", partnerScript)
	asked := p.simulated("lab", "contracts/lab.wsdl", "-script", "partner.yaml", "-record", "asked.ndjson")
	pick := func(lot, moisture string) string {
		o := p.in("call", "lab/GradeLot", "lot="+lot, "moisture="+moisture, "-pick", "grade")
		return o.all()
	}
	assert.Contains(t, pick("L-2202", "27"), "lot L-2202 is too moist")
	assert.Equal(t, "B\n", pick("L-2202", "17"))
	assert.Equal(t, "C\n", pick("L-2203", "17"), "what an earlier call left")
	asked()
	recorded := p.read("asked.ndjson")
	for _, says := range []string{
		`"operation":"GradeLot"`, `"answered by":"script line 4"`,
		`"fields":{"lot":"L-2203","moisture":17}`, `"status":500`,
	} {
		assert.Contains(t, recorded, says)
	}

	require.Equal(t, 0, p.run("call", "stores/search", "grade=A").status)
	address, _ := p.serving("standin", "-contract", "contracts/stores.yaml", "-listen", "127.0.0.1:0", "-play", "1")
	answer, err := http.Get(address + "/stores/lots?grade=A")
	require.NoError(t, err)
	text, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	_ = answer.Body.Close()
	assert.Contains(t, string(text), "Ansel Thripp", "as it was answered then")

	p.write("broken.yaml", `answer: []
answers:
  - operation: GradeLo
    asked:
      moisture: is nmber
    says:
      status: 99
      bdy: x
    after: soon
`)
	p.write("other.yaml", "answers:\n  - operation: GradeLo\n")
	p.cases([]commandCase{
		{
			"standin -contract contracts/lab.wsdl -script broken.yaml -listen 127.0.0.1:0", 2,
			[]string{
				`did you mean "answers"?`, "nmber", `"99" is not a status`, `did you mean "body"?`,
				`"soon" is not a time`,
			},
		},
		{
			"standin -contract contracts/lab.wsdl -script other.yaml -listen 127.0.0.1:0", 2,
			[]string{`the contract has no operation "GradeLo"`, `did you mean "GradeLot"?`},
		},
		{
			"standin -contract contracts/lab.xsd -listen 127.0.0.1:0", 2,
			[]string{"a schema alone says of no operations"},
		},
		{"standin -contract none.wsdl -listen 127.0.0.1:0", 2, []string{"none.wsdl"}},
		{"standin -contract contracts/lab.wsdl -script none.yaml -listen 127.0.0.1:0", 2, []string{"none.yaml"}},
		{"standin -script x", 2, []string{"-script has no effect in standin without -contract"}},
		{"standin -contract contracts/lab.wsdl -listen :0", 2, []string{"names no address"}},
	})
}

// Every operation of the demo's contracts, drafted by its contract and sent to the service
// that is simulated by the same, is answered by what the contract says.
func TestSimulatedOperations(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	require.NoError(t, os.WriteFile(filepath.Join(p.dir, "contracts", "scale.wsdl"), scaleContract(t), 0o600))
	for _, contract := range []string{
		"contracts/lab.wsdl", "contracts/scale.wsdl", "contracts/stores.yaml",
		"contracts/index.wadl", "contracts/ledger.xml", "contracts/ledger-2.xml",
	} {
		p.simulated("s", contract)
		var survey struct {
			Operations []struct{ Name string }
		}
		o := p.in("survey", "s", "-json")
		require.Equal(t, 0, o.status, o.all())
		require.NoError(t, json.Unmarshal([]byte(o.stdout), &survey), o.stdout)
		require.NotEmpty(t, survey.Operations, contract)
		sheet, count := "sheet: drafted\nsteps:\n", 0
		for _, op := range survey.Operations {
			if op.Name == "WeighAll" {
				continue // of another port
			}
			o := p.in("draft", "s", op.Name, "-as", "step")
			if !assert.Equal(t, 0, o.status, "%s: %s", op.Name, o.all()) {
				continue
			}
			for line := range strings.Lines(o.stdout) {
				sheet += "  " + line
			}
			count++
		}
		q := *p
		q.dir = filepath.Join(p.dir, "sim")
		q.write("sheets/drafted.yaml", sheet)
		o = q.run("run", "sheets/drafted.yaml", "-write", "local")
		assert.Contains(t, o.stdout, "1 passed", "%s, %d operations: %s", contract, count, o.all())
		assert.Equal(t, 0, o.status, contract)
	}
}

// scaleContract is the contract of the scale, as its stand-in has it.
func scaleContract(t *testing.T) []byte {
	t.Helper()
	data, err := os.ReadFile("../../internal/standin/scale/scale.wsdl")
	require.NoError(t, err)
	return []byte(strings.ReplaceAll(string(data), "@BASE@", "http://127.0.0.1:8720"))
}
