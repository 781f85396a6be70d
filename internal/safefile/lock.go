package safefile

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"
)

// lockWait is how long another program is waited for that is at work on the same file.
const lockWait = 10 * time.Second

// Lock keeps other commands of this program from changing the file name, from before it is
// read until the new content is in place: otherwise what one of two at once wrote would be
// lost. It ends with the process, however that ends. Where the machine has no place for
// locks, there is none.
func Lock(name string) (unlock func(), err error) {
	whole, err := filepath.Abs(name)
	if err != nil {
		return nil, err
	}
	if real, err := filepath.EvalSymlinks(filepath.Dir(whole)); err == nil {
		whole = filepath.Join(real, filepath.Base(whole))
	}
	dir := lockFolder()
	if dir == "" {
		return func() {}, nil
	}
	sum := sha256.Sum256([]byte(whole))
	lock := flock.New(filepath.Join(dir, hex.EncodeToString(sum[:12])), flock.SetPermissions(0o600))
	ctx, cancel := context.WithTimeout(context.Background(), lockWait)
	defer cancel()
	switch _, err := lock.TryLockContext(ctx, 5*time.Millisecond); {
	case errors.Is(err, context.DeadlineExceeded):
		return nil, fmt.Errorf("%s is being changed by another command, for more than %s", name, lockWait)
	case err != nil:
		return func() {}, nil
	}
	return func() { _ = lock.Unlock() }, nil
}

// lockFolder is where locks lie: a folder of the user's alone, in that for temporary files, where
// somebody else may have put one of its name, or in the user's own. "" for none.
func lockFolder() string {
	dirs := []string{filepath.Join(os.TempDir(), fmt.Sprintf("testbench-locks-%d", os.Getuid()))}
	if cache, err := os.UserCacheDir(); err == nil {
		dirs = append(dirs, filepath.Join(cache, "testbench", "locks"))
	}
	for _, dir := range dirs {
		if err := os.MkdirAll(dir, 0o700); err == nil && isOurs(dir) {
			return dir
		}
	}
	return ""
}
