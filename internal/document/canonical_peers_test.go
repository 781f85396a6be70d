//go:build peers

package document_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"testbench/internal/document"
)

// canonicalGenerator writes documents full of what makes canonical forms differ.
type canonicalGenerator struct {
	random *rand.Rand
	out    strings.Builder
}

func (g *canonicalGenerator) pick(words ...string) string { return words[g.random.IntN(len(words))] }

func (g *canonicalGenerator) element(depth int, scope map[string]bool) {
	inner := map[string]bool{}
	for prefix := range scope {
		inner[prefix] = true
	}
	var declared []string
	for _, prefix := range []string{"", "p", "q", "r"} {
		if g.random.IntN(4) > 0 && depth > 0 {
			continue
		}
		space := g.pick("urn:a", "urn:b", "urn:c")
		if prefix == "" {
			declared = append(declared, fmt.Sprintf(` xmlns=%q`, g.pick("", space)))
			continue
		}
		declared = append(declared, fmt.Sprintf(` xmlns:%s=%q`, prefix, "urn:"+prefix+space))
		inner[prefix] = true
	}
	prefixed := func(local string) string {
		if prefix := g.pick("", "p", "q", "r"); prefix != "" && inner[prefix] {
			return prefix + ":" + local
		}
		return local
	}
	name := prefixed(g.pick("a", "b", "c-d", "é"))
	g.out.WriteString("<" + name)
	attributes := append(declared,
		fmt.Sprintf(` %s="%s"`, prefixed("x"), g.pick("1", "&lt;&amp;&quot;", " a\tb ", "&#13;&#10;&#9;", "'>")),
		fmt.Sprintf(` %s='%s'`, prefixed("y"), g.pick("", "ü", `"`)))
	if g.random.IntN(3) == 0 {
		attributes = append(attributes, ` xml:lang="de"`)
	}
	g.random.Shuffle(len(attributes), func(i, j int) { attributes[i], attributes[j] = attributes[j], attributes[i] })
	g.out.WriteString(strings.Join(attributes, "") + g.pick("", " ", "\n") + ">")
	for range g.random.IntN(4) {
		g.out.WriteString(g.pick("", "\n  ", "text &gt; &amp; &#13;", "<![CDATA[<x>&]]>", "<!-- - -->", "<?pi  data ?>",
			"é𝄞"))
		if depth < 4 {
			g.element(depth+1, inner)
		}
	}
	g.out.WriteString("</" + name + g.pick("", " ") + ">")
}

func TestCanonicalXMLAgainstLibxml2(t *testing.T) {
	dir := t.TempDir()
	for seed := range uint64(200) {
		g := &canonicalGenerator{random: rand.New(rand.NewPCG(seed, 1))}
		g.element(0, map[string]bool{})
		file := filepath.Join(dir, "d.xml")
		require.NoError(t, os.WriteFile(file, []byte(g.out.String()), 0o600))
		root, err := document.ReadXML([]byte(g.out.String()), "")
		require.NoError(t, err, g.out.String())
		for option, how := range map[string]document.Canonical{
			"--exc-c14n": {Comments: true},
			"--c14n":     {Inclusive: true, Comments: true},
		} {
			want, err := exec.Command("xmllint", option, file).Output()
			require.NoError(t, err)
			require.Equal(t, string(want), string(document.CanonicalXML(root, root, how)), "%s of %s", option,
				g.out.String())
		}
	}
}
