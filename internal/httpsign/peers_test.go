//go:build peers

package httpsign_test

import (
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/httpsign"
)

// What is signed here another implementation verifies, and the other way round,
// by every algorithm that both know.
func TestAgainstNode(t *testing.T) {
	peers, err := filepath.Abs("../../scripts/peers")
	require.NoError(t, err)
	for algorithm, key := range keysByAlgorithm(t) {
		m := request(t)
		params := params("created", time.Now().Unix(), "keyid", "one", "alg", algorithm)
		base, input, err := httpsign.Base(m,
			components(t, "@method", "@target-uri", "@authority", `"@query-param";name="Pet"`, "content-digest",
				"date"), params)
		require.NoError(t, err)
		signature, err := httpsign.Sign(algorithm, key, []byte(base))
		require.NoError(t, err)
		shared, isShared := key.([]byte)
		secret := base64.StdEncoding.EncodeToString(shared)
		if !isShared {
			raw, err := x509.MarshalPKCS8PrivateKey(key)
			require.NoError(t, err)
			secret = string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}))
		}
		headers := map[string]string{
			"signature-input": "sig1=" + input,
			"signature":       "sig1=:" + base64.StdEncoding.EncodeToString(signature) + ":",
		}
		for name, values := range m.Header {
			headers[name] = values[0]
		}
		asked, err := json.Marshal(map[string]any{
			"algorithm": algorithm, "key": secret, "method": m.Method,
			"url": m.URL.String(), "headers": headers,
		})
		require.NoError(t, err)
		file := filepath.Join(t.TempDir(), "asked.json")
		require.NoError(t, os.WriteFile(file, asked, 0o600))
		output, err := exec.Command("node", "testdata/sign.cjs", peers, file).Output()
		require.NoError(t, err, "%s: %s", algorithm, output)
		var said struct {
			Verified bool
			Input    string `json:"input"`
			Made     string `json:"made"`
		}
		require.NoError(t, json.Unmarshal(output, &said), string(output))
		assert.True(t, said.Verified, algorithm)
		m.Header.Set("Signature-Input", said.Input)
		m.Header.Set("Signature", said.Made)
		read, err := httpsign.Read(m)
		require.NoError(t, err)
		require.Len(t, read, 1)
		err = read[0].Check(m, algorithm, publicOf(key), time.Now())
		if algorithm == "rsa-pss-sha512" {
			// It takes the longest salt there can be, and not 64 octets.
			assert.ErrorContains(t, err, "3.3.1")
			continue
		}
		assert.NoError(t, err, "%s %s", algorithm, said.Input)
	}
}
