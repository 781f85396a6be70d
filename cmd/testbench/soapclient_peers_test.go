//go:build peers

package main_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A client of others reads WSDLs of others, reads the draft of each operation by the schema there, and sends it as it
// writes it to the service that is simulated by the contract: that takes it, and the client takes the answer.
func TestSOAPClient(t *testing.T) {
	t.Parallel()
	sources, err := filepath.Abs("../../scripts/peers/sources")
	require.NoError(t, err)
	operations := 0
	for _, name := range []string{
		"samples/xbeans/starwars", "test/wsdl/choice/ChoiceService", "test/wsdl/datatypes/DataTypes",
		"test/wsdl/interop3/compound1/Compound1", "test/wsdl/interop3/compound2/Compound2",
		"test/wsdl/interop3/docLit/interoptestdoclit", "test/wsdl/interop3/docLitParam/interoptestdoclitparameters",
		"test/wsdl/interop4/groupH/complexDocLit/complex-doc-literal",
		"test/wsdl/interop4/groupH/simpleDocLit/simple-doc-literal", "test/wsdl/interop4/groupi/round4XSD",
		"test/wsdl/marshall3/marshall3", "test/wsdl/schema2/schema2", "",
	} {
		t.Run(filepath.Base(name), func(t *testing.T) {
			files, err := filepath.Glob(filepath.Join(sources, "axis-*", name+".wsdl"))
			require.NoError(t, err)
			p := newPlace(t)
			if name == "" { // the demo's own
				p, _ = newBench(t)
				files = []string{filepath.Join(p.dir, "contracts/lab.wsdl")}
			}
			require.Len(t, files, 1, "scripts/test fetches them")
			var survey struct {
				Operations []struct{ Name string }
			}
			require.NoError(t, json.Unmarshal([]byte(p.run("survey", files[0], "-json").stdout), &survey))
			for _, op := range survey.Operations {
				p.write("drafts/"+op.Name+".xml", p.run("draft", files[0], op.Name).stdout)
			}
			port := freePort(t)
			serveWith(t, p.env, port, built, "standin", "-contract", files[0], "-listen", "127.0.0.1:"+port, "-quiet")
			client := exec.Command("php", "testdata/php/drafts.php", files[0], "http://127.0.0.1:"+port+"/",
				filepath.Join(p.dir, "drafts"))
			client.Env = os.Environ()
			output, err := client.CombinedOutput()
			require.NoError(t, err, "%s", output)
			lines := strings.Split(strings.TrimSpace(string(output)), "\n")
			assert.Len(t, lines, len(survey.Operations))
			for _, line := range lines {
				operation, came, _ := strings.Cut(line, " ")
				if operation == "echoAnyElement" || operation == "RegisterAnalysis" {
					continue // the client has no way to write what stands for any element, and the test none to tell it a type
				}
				assert.Equal(t, "ok", came, operation)
				operations++
			}
		})
	}
	assert.Greater(t, operations, 75)
}
