package main_test

import (
	"fmt"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What the packages of the project prepare before main takes little; what those of others take is listed.
func TestStart(t *testing.T) {
	const most = 6.0 // milliseconds
	factor := 1.0
	if raceEnabled {
		factor = 12
	}
	line := regexp.MustCompile(`(?m)^init (\S+) @.* ms, ([0-9.]+) ms clock`)
	times := map[string][]float64{}
	for range 5 {
		cmd := exec.Command(built, "version")
		cmd.Env = append(os.Environ(), "GODEBUG=inittrace=1")
		out, err := cmd.CombinedOutput()
		require.NoError(t, err)
		for _, m := range line.FindAllStringSubmatch(string(out), -1) {
			took, err := strconv.ParseFloat(m[2], 64)
			require.NoError(t, err)
			times[m[1]] = append(times[m[1]], took)
		}
	}
	own, others := 0.0, []string{}
	for name, took := range times {
		slices.Sort(took)
		switch median := took[len(took)/2]; {
		case strings.HasPrefix(name, "testbench/"):
			own += median
		case median >= 0.1:
			others = append(others, fmt.Sprintf("%6.2f ms  %s", median, name))
		}
	}
	slices.Sort(others)
	slices.Reverse(others)
	t.Logf("of the project: %.2f ms; of others:\n%s", own, strings.Join(others, "\n"))
	require.NotEmpty(t, times)
	assert.Less(t, own, factor*most)
}
