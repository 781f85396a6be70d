//go:build !unix

package main_test

import (
	"os"
	"os/exec"
)

// mostMemoryOf is not known here.
func mostMemoryOf(*os.ProcessState) int64 { return 0 }

func onItsOwn(*exec.Cmd) {}
