package workbench_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/secret"
	"testbench/internal/standin"
	"testbench/internal/standin/demo"
	"testbench/internal/workbench"
)

// demoBench opens the demo bench at a stand-in of its own.
func demoBench(t *testing.T) *workbench.Bench {
	t.Helper()
	dir := t.TempDir()
	server, err := standin.Start("127.0.0.1:0", standin.Options{Books: filepath.Join(dir, demo.BooksFile)})
	require.NoError(t, err)
	t.Cleanup(server.Close)
	require.NoError(t, demo.Write(dir, "http://"+server.Address))
	t.Setenv("TESTBENCH_IDENTITY", filepath.Join(dir, "identity.txt"))
	bench, err := workbench.Open(dir)
	require.NoError(t, err)
	for name, text := range standin.Secrets {
		_, err := bench.Store.Set("", name, text)
		require.NoError(t, err)
	}
	return bench
}

func TestRun(t *testing.T) {
	bench := demoBench(t)
	sheets, err := bench.SheetFiles()
	require.NoError(t, err)
	require.Len(t, sheets, 13)
	masker := &secret.Masker{}
	result, err := bench.Run(t.Context(), sheets, workbench.RunOptions{Options: workbench.Options{Masker: masker}})
	require.NoError(t, err)
	require.NoError(t, result.Close())
	assert.Equal(t, workbench.Failed, result.Outcome)
	assert.Equal(t, 1, result.Outcome.ExitStatus())
	counts := result.Counts()
	assert.Equal(t, []int{13, 18, 17, 1, 83, 80, 1, 2},
		[]int{
			counts.Sheets, counts.Rows, counts.RowsPassed, counts.RowsFailed, counts.Steps, counts.StepsPassed,
			counts.StepsFailed, counts.StepsNotRun,
		})
	book := result.Sheets[5].Rows[1].Steps[1]
	assert.Equal(t, workbench.Failed, book.Outcome)
	assert.Equal(t, `response from ledger: "moisture must not exceed 20" (field moisture)`, book.Response)
	assert.Equal(t, "[masked]", masker.Text(standin.Secrets["ledger_key"]), "what was used is masked from then on")
	assert.Equal(t, "L-2208", result.Sheets[5].Rows[1].Label)

	// Mistakes come as problems, before anything is sent.
	broken := filepath.Join(bench.Dir, "sheets", "broken.yaml")
	require.NoError(t, os.WriteFile(broken,
		[]byte("sheet: x\nsteps:\n  - step: a\n    call: stores/serch\n    fields:\n      a: is nmber\n"), 0o600))
	_, err = bench.Run(t.Context(), []string{broken}, workbench.RunOptions{})
	var problems workbench.Problems
	require.ErrorAs(t, err, &problems)
	require.Len(t, problems, 2)
	assert.Equal(t, []int{4, 11}, []int{problems[0].Line, problems[0].Column})
	_, err = bench.Run(t.Context(), []string{"none.yaml"}, workbench.RunOptions{})
	assert.ErrorContains(t, err, "there is no sheet")
	_, err = bench.Run(t.Context(), sheets, workbench.RunOptions{Options: workbench.Options{Site: "lokal"}})
	assert.ErrorContains(t, err, `did you mean "local"?`)
}

// A bench may be used by many at once.
func TestRunAtOnce(t *testing.T) {
	bench := demoBench(t)
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			result, err := bench.Run(t.Context(),
				[]string{
					filepath.Join(bench.Dir, "sheets", "01-search.yaml"),
					filepath.Join(bench.Dir, "sheets", "05-refused.yaml"),
				}, workbench.RunOptions{})
			if assert.NoError(t, err) {
				assert.NoError(t, result.Close())
				assert.Equal(t, workbench.Passed, result.Outcome)
			}
		})
	}
	all.Wait()
}

func TestCancelled(t *testing.T) {
	bench := demoBench(t)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	result, err := bench.Run(ctx, []string{filepath.Join(bench.Dir, "sheets", "03-intake.yaml")},
		workbench.RunOptions{})
	require.NoError(t, err)
	require.NoError(t, result.Close())
	assert.Equal(t, workbench.Interrupted, result.Outcome)
	assert.Equal(t, 130, result.Outcome.ExitStatus())
}

func TestCallAndKeep(t *testing.T) {
	bench := demoBench(t)
	step, err := bench.Prepare(workbench.Call{Target: []string{"stores/search"}, Fields: []string{"grade=A"}},
		workbench.Options{})
	require.NoError(t, err)
	result, _, err := bench.Do(t.Context(), step, workbench.Options{})
	require.NoError(t, err)
	assert.Equal(t, workbench.Passed, result.Outcome)
	lot := result.Reply.Payload.Get("lots").Items()[0].Get("id")
	require.NoError(t, bench.Keep("lot", lot))
	sealed, err := os.ReadFile(filepath.Join(bench.Dir, ".testbench", "kept", "lot.age"))
	require.NoError(t, err)
	assert.NotContains(t, string(sealed), lot.Text)

	// Another program finds it again, with its kind, and asks for it by name.
	again, err := workbench.Open(bench.Dir)
	require.NoError(t, err)
	node, ok := again.Kept("lot")
	require.True(t, ok)
	assert.Equal(t, document.Text, node.Kind)
	step, err = again.Prepare(workbench.Call{Target: []string{"stores", "GET", "/lots/kept:lot"}}, workbench.Options{})
	require.NoError(t, err)
	result, _, err = again.Do(t.Context(), step, workbench.Options{})
	require.NoError(t, err)
	assert.Equal(t, lot.Text, result.Reply.Payload.Get("id").Text)
	_, err = again.Prepare(workbench.Call{Target: []string{"stores", "GET", "/lots/kept:lots"}}, workbench.Options{})
	assert.ErrorContains(t, err, "${kept.lots}")
	assert.ErrorContains(t, workbench.AdHoc().Keep("x", node), "only in a bench")

	planned, err := again.Plan(t.Context(), step, workbench.Options{})
	require.NoError(t, err)
	assert.True(t, strings.HasSuffix(planned.URL.Path, "/lots/"+lot.Text))
	assert.Equal(t, "Bearer [masked]", planned.ShownField("Authorization", planned.GetHeader("Authorization")))
}

func TestNewKeepsWhatIsThere(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "my bench: 1")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".gitignore"), []byte("mine\n"), 0o600))
	written, err := workbench.New(dir, "")
	require.NoError(t, err)
	assert.Len(t, written, 1)
	data, err := os.ReadFile(filepath.Join(dir, ".gitignore"))
	require.NoError(t, err)
	assert.Equal(t, "mine\n", string(data))
	bench, err := workbench.Open(dir)
	require.NoError(t, err)
	assert.Empty(t, bench.Model().Problems())
	assert.Equal(t, "my bench: 1", bench.Model().Name)
	_, err = workbench.Open(filepath.Dir(dir))
	assert.ErrorContains(t, err, "there is no bench.yaml")
}

// A folder and a pattern stand for the sheets in them, from here and from the bench.
func TestFoldersOfSheets(t *testing.T) {
	bench := demoBench(t)
	for name, want := range map[string]int{
		"sheets": 13, "sheets/": 13, "sheets/0*.yaml": 9, filepath.Join(bench.Dir, "sheets"): 13, "sheets/0[12]*": 2,
	} {
		vetted, err := bench.Vet([]string{name}, workbench.Options{})
		require.NoError(t, err, name)
		assert.Empty(t, vetted.Problems, name)
		result, err := bench.Run(t.Context(), []string{name}, workbench.RunOptions{Dry: true})
		require.NoError(t, err, name)
		assert.Len(t, result.Sheets, want, name)
		require.NoError(t, result.Close())
	}
	for _, name := range []string{"data", "sheets/9*.yaml", "sheets/[", "none"} {
		_, err := bench.Vet([]string{name}, workbench.Options{})
		assert.ErrorContains(t, err, "there is no sheet", name)
	}
}
