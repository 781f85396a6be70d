// Package safefiletest makes links for tests.
package safefiletest

import (
	"os"
	"runtime"
	"testing"

	"github.com/stretchr/testify/require"
)

// Link makes a link, and leaves the test out where the system makes none: Windows asks for a right that not every
// user has.
func Link(t *testing.T, to, at string) {
	t.Helper()
	err := os.Symlink(to, at)
	if runtime.GOOS == "windows" {
		if _, unread := os.Readlink(at); err != nil || unread != nil {
			t.Skip("Windows makes no links here")
		}
	}
	require.NoError(t, err)
}
