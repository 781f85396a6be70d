package main_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// mishapCommands are the commands that talk, with what each asks of a mishap: an exchange,
// a token, or a contract.
var mishapCommands = []string{
	"call mishaps GET /NAME",
	"run sheets/mishap.yaml -set name=NAME",
	"watch mishaps GET /NAME -times 1",
	"propose mishaps GET /NAME -times 2",
	"compare mishaps GET /NAME -site local -site south",
	"probe mishaps GET /NAME",
	"token l_NAME",
	"add a_NAME BASE/mishaps/NAME",
	"survey BASE/mishaps/NAME",
	"draft BASE/mishaps/NAME op",
	"validate BASE/mishaps/NAME x.json",
	"standin -contract BASE/mishaps/NAME -listen 127.0.0.1:0",
	"compare BASE/mishaps/NAME contracts/stores.yaml",
	"handover s_NAME/op",
	"bridge s_NAME -listen 127.0.0.1:0",
}

// mishapOutcomes are the exit statuses of the commands, in their order, at each mishap. An
// exchange that did not come to pass is 3; an answer that can be read and is not what it
// should be is 1; what should be a contract and is none is 2. An address whose answer is no
// contract is taken for an example of a request, and that said. Two sites that lead away
// alike do not differ; where nothing came, there is nothing to learn from or to compare.
var mishapOutcomes = map[string]string{
	"slow":      "333333 3 3 3333333",
	"hang":      "333333 3 3 3333333",
	"cut":       "333333 3 0 3333333",
	"reset":     "333333 3 3 3333333",
	"gibberish": "333333 3 3 3333333",
	"enormous":  "333333 3 0 3333333",
	"bomb":      "333333 3 0 3333333",
	"ring":      "333333 3 0 3333333",
	"away":      "111101 3 0 3333333",
	"long":      "111110 3 0 2222222",
	"broken":    "111110 3 0 2222222",
	"markup":    "111110 3 0 2222222",
	"doctype":   "111110 3 0 2222222",
	"bytes":     "111110 3 0 2222222",
	"deep":      "111110 3 0 2222222",
	"type":      "010000 3 0 2222222",
	"page":      "010000 3 0 2222222",
	"empty":     "010220 3 0 2222222",
	"quiet":     "010001 3 0 2222222",
}

// measurement is what a run of the program came to, and what it took.
type measurement struct {
	said      string
	status    int
	took      time.Duration
	megabytes int // at most
}

// measured runs the program by way of a process that has little memory itself: what the
// parent has when it starts a process counts for that too.
func (p *place) measured(args ...string) measurement {
	p.t.Helper()
	self, err := os.Executable()
	require.NoError(p.t, err)
	ctx, cancel := context.WithTimeout(p.t.Context(), patience)
	defer cancel()
	c := exec.CommandContext(ctx, self, append([]string{built}, args...)...)
	c.Dir, c.Env, c.WaitDelay = p.dir, append(slices.Clone(p.env), measures+"=yes"), time.Second
	output, err := c.CombinedOutput()
	require.NoError(p.t, err, "%s hangs: %s", args, output)
	said, numbers, found := strings.Cut(string(output), measures)
	require.True(p.t, found, said)
	m := measurement{said: said}
	_, err = fmt.Sscan(numbers, &m.status, &m.took, &m.megabytes)
	require.NoError(p.t, err, numbers)
	return m
}

// measures is the variable that makes of the test program one that starts another and
// measures it, and the word before what it found.
const measures = "TESTBENCH_MEASURES"

func measure(args []string) int {
	c := exec.Command(args[0], args[1:]...)
	c.Stdout, c.Stderr = os.Stdout, os.Stderr
	begun := time.Now()
	if err := c.Run(); c.ProcessState == nil {
		fmt.Println(err)
		return 1
	}
	fmt.Println(measures, c.ProcessState.ExitCode(), int64(time.Since(begun)),
		mostMemoryOf(c.ProcessState)>>10)
	return 0
}

// Whatever an endpoint does, every command that talks ends in its time, with the right
// status, a word about it, and bounded memory.
func TestMishapsOfEveryCommand(t *testing.T) {
	slow(t)
	t.Parallel()
	p, server := newBench(t)
	base := "http://" + server.Address
	var services, logins strings.Builder
	for name := range mishapOutcomes {
		services.WriteString("  s_" + name + ":\n    contract: ${base}/mishaps/" + name +
			"\n    address: ${base}/mishaps/" + name + "\n")
		logins.WriteString("  l_" + name +
			":\n    kind: oauth2\n    grant: client credentials\n    from: ${base}/mishaps/" + name +
			"\n    client: c\n    client secret: ${sealed.clerk}\n")
	}
	bench := strings.Replace(p.read("bench.yaml"), "\nlogins:\n", "\n"+services.String()+"logins:\n"+logins.String(), 1)
	p.write("bench.yaml", bench)
	p.write("x.json", "{}")
	p.write("sheets/mishap.yaml",
		`sheet: mishap
site: local
steps:
  - step: ask
    request: mishaps GET /${name}
    fields:
      lots: is present
`)
	for name, outcomes := range mishapOutcomes {
		expected := strings.ReplaceAll(outcomes, " ", "")
		require.Len(t, expected, len(mishapCommands), name)
		var got strings.Builder
		for _, command := range mishapCommands {
			args := strings.Fields(strings.NewReplacer("NAME", name, "BASE", base).Replace(command))
			timeout, limit := "2m", patience
			if name == "slow" || name == "hang" {
				timeout, limit = "400ms", time.Minute
			}
			m := p.measured(append(args, "-timeout", timeout, "-most", "8")...)
			got.WriteString(string(rune('0' + max(m.status, 0)%10)))
			assert.Less(t, m.took, limit, "%s hangs", args)
			assert.NotContains(t, m.said, "goroutine ", "%s", args)
			assert.NotEmpty(t, strings.TrimSpace(m.said), "%s", args)
			assert.Less(t, m.megabytes, 400, "%s", args)
		}
		assert.Equal(t, expected, got.String(), name)
	}
}
