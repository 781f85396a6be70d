package callback_test

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/callback"
)

// A step is given the calls that it waits for, in order; all others are refused, and told of.
func TestReceiver(t *testing.T) {
	receiver := &callback.Receiver{}
	key := []byte("a key of the press")
	box, address, err := receiver.Open(&callback.Listener{
		Method: "POST", Path: "done", Key: key,
		Signed: &callback.Signed{Header: "X-Seal", Hash: "sha256", Encode: "hex", Before: "sha256="},
		Answer: callback.Answer{Status: 202}, Header: http.Header{"X-Taken": {"yes"}}, Body: []byte("thanks"),
	})
	require.NoError(t, err)
	call := func(method, address, body, seal string) int {
		request, err := http.NewRequestWithContext(t.Context(), method, address, strings.NewReader(body))
		require.NoError(t, err)
		request.Header.Set("X-Seal", seal)
		answer, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		require.NoError(t, answer.Body.Close())
		return answer.StatusCode
	}
	sealOf := func(body string) string {
		mac := hmac.New(sha256.New, key)
		_, _ = mac.Write([]byte(body))
		return "sha256=" + hex.EncodeToString(mac.Sum(nil))
	}
	for _, c := range []struct {
		name, method, path, body, seal string
		status                         int
	}{
		{"by another method", "PUT", "/done", "1", sealOf("1"), 405},
		{"to another place", "POST", "/undone", "1", sealOf("1"), 404},
		{"sealed over another body", "POST", "/done", "1", sealOf("2"), 401},
		{"without what is before the seal", "POST", "/done", "1", strings.TrimPrefix(sealOf("1"), "sha256="), 401},
		{"larger than is taken", "POST", "/done", strings.Repeat("x", 11<<20), "", 413},
		{"the first", "POST", "/done", "1", sealOf("1"), 202},
		{"the second", "POST", "/done/", "2", sealOf("2"), 202},
	} {
		t.Run(c.name, func(t *testing.T) { assert.Equal(t, c.status, call(c.method, address+c.path, c.body, c.seal)) })
	}
	for _, want := range []string{"1", "2"} {
		taken, err := box.Next(t.Context(), time.Now().Add(time.Minute))
		require.NoError(t, err)
		assert.Equal(t, want, string(taken.Body))
		assert.Equal(t, 202, taken.Record(box.Listen).Answer.Status)
	}
	none, err := box.Next(t.Context(), time.Now())
	require.NoError(t, err)
	assert.Nil(t, none)
	assert.Equal(t, []string{
		"a call by PUT came and was refused: POST is waited for",
		"a call to /undone came and was refused: /done is waited for",
		"a call with a false signature came and was refused (header X-Seal)",
		"a call with a false signature came and was refused (header X-Seal)",
		"a call was larger than 10 MiB, and refused",
	}, box.TakeNotes())
	receiver.Shut(box)
	assert.Equal(t, 410, call("POST", address+"/done", "3", sealOf("3")))
	require.NoError(t, receiver.Close())
	require.NoError(t, receiver.Close(), "it is closed already")
}
