//go:build peers

package main_test

import (
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// There is no PowerShell here: that its script can be read is what can be shown.
func TestCompletionOfPowerShell(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	script := p.run("completion", "powershell")
	require.Equal(t, 0, script.status)
	p.write("completion.ps1", script.stdout)
	p.write("broken.ps1", script.stdout+"}\n")
	read := func(file string) ([]byte, error) {
		return exec.Command("node", "testdata/node/powershell.cjs", "../../scripts/peers", filepath.Join(p.dir, file)).
			CombinedOutput()
	}
	output, err := read("completion.ps1")
	require.NoError(t, err, "%s", output)
	output, err = read("broken.ps1")
	assert.Error(t, err)
	assert.Contains(t, string(output), "broken.ps1 cannot be read")
}
