package peers_test

import (
	"encoding/json"
	"math/rand/v2"
	"strings"
	"testing"

	jsonpatch "github.com/evanphx/json-patch/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/compare"
	"testbench/internal/document"
)

func tree(t *testing.T, text []byte) *document.Node {
	t.Helper()
	n, err := document.ReadJSON(text)
	require.NoError(t, err)
	return n
}

func random(r *rand.Rand, depth int) any {
	switch kind := r.IntN(8); {
	case kind < 3 && depth > 0:
		out := map[string]any{}
		for _, name := range []string{"id", "a", "b/c", "~d", "e"} {
			if r.IntN(2) == 0 {
				out[name] = random(r, depth-1)
			}
		}
		return out
	case kind < 5 && depth > 0:
		out := []any{}
		for range r.IntN(5) {
			out = append(out, random(r, depth-1))
		}
		return out
	case kind == 5:
		return nil
	case kind == 6:
		return r.IntN(4)
	}
	return []any{"x", "y", true, false, 1.5}[r.IntN(5)]
}

// mutate changes a little of a value.
func mutate(r *rand.Rand, v any) any {
	switch v := v.(type) {
	case map[string]any:
		out := map[string]any{}
		for name, inner := range v {
			if r.IntN(6) > 0 {
				out[name] = mutate(r, inner)
			}
		}
		if r.IntN(4) == 0 {
			out["new"] = random(r, 1)
		}
		return out
	case []any:
		out := []any{}
		for _, inner := range v {
			if r.IntN(6) > 0 {
				out = append(out, mutate(r, inner))
			}
		}
		if r.IntN(3) == 0 {
			r.Shuffle(len(out), func(i, j int) { out[i], out[j] = out[j], out[i] })
		}
		if r.IntN(4) == 0 {
			out = append(out, random(r, 1))
		}
		return out
	}
	if r.IntN(5) == 0 {
		return random(r, 1)
	}
	return v
}

// The patch, applied by a library that is not ours, gives the other document; and where
// nothing differs there is nothing to apply.
func TestPatch(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 902))
	differ := 0
	for range 2_000 {
		v := random(r, 4)
		first, err := json.Marshal(v)
		require.NoError(t, err)
		second, err := json.Marshal(mutate(r, v))
		require.NoError(t, err)
		a, b := tree(t, first), tree(t, second)
		operations := compare.Patch(a, b)
		written, err := json.Marshal(operations)
		require.NoError(t, err)
		// The library wants an object or a list at the root.
		patch, err := jsonpatch.DecodePatch([]byte(strings.ReplaceAll(strings.ReplaceAll(string(written), `"path":"`,
			`"path":"/r`), `"from":"`, `"from":"/r`)))
		require.NoError(t, err)
		got, err := patch.Apply([]byte(`{"r":` + string(first) + `}`))
		require.NoError(t, err, "%s\n%s\n%s", first, second, written)
		require.JSONEq(t, `{"r":`+string(second)+`}`, string(got), "%s\n%s", first, written)
		differences := compare.Trees(a, b, compare.Options{})
		require.Equal(t, len(operations) == 0, len(differences) == 0, "%s\n%s\n%s\n%v", first, second, written,
			differences)
		if len(differences) > 0 {
			differ++
		}
		require.Empty(t, compare.Trees(a, a, compare.Options{}))
	}
	assert.Greater(t, differ, 1_000)
}
