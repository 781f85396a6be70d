//go:build peers

package wssecurity

import (
	"encoding/hex"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const namesInJava = `import javax.security.auth.x500.X500Principal;
import java.util.HexFormat;
class Names {
    public static void main(String[] pairs) {
        for (int i = 0; i + 1 < pairs.length; i += 2) {
            X500Principal own = new X500Principal(HexFormat.of().parseHex(pairs[i]));
            System.out.println(own.equals(new X500Principal(pairs[i + 1])) + "\t" + own.getName(X500Principal.RFC2253)
                + "\t" + own.getName(X500Principal.RFC1779) + "\t" + own.toString());
        }
    }
}
`

// The names of authorities are to Java what they are here, and Java's own ways to write them are read.
func TestNamesByJava(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "Names.java"), []byte(namesInJava), 0o600))
	args := []string{
		"-Dfile.encoding=UTF-8", "-Dsun.jnu.encoding=UTF-8", "-Dstdout.encoding=UTF-8",
		filepath.Join(dir, "Names.java"),
	}
	var names [][]byte
	for name, raw := range authorities(t) {
		if name == "several in one" || name == "wide letters" {
			continue // texts of other kinds than those of RFC 5280 Java compares byte by byte
		}
		text, err := distinguishedName(raw)
		require.NoError(t, err)
		names = append(names, raw)
		args = append(args, hex.EncodeToString(raw), text)
	}
	c := exec.Command("java", args...)
	c.Env = append(os.Environ(), "LC_ALL=C.UTF-8")
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
	lines := strings.Split(strings.TrimSpace(string(out)), "\n")
	require.Len(t, lines, len(names))
	for i, line := range lines {
		fields := strings.Split(line, "\t")
		assert.Equal(t, "true", fields[0], line)
		for _, text := range fields[1:] {
			assert.True(t, sameName(names[i], text), text)
		}
	}
}
