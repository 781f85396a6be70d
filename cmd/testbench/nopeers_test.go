//go:build !peers

package main_test

// peers says whether the programs are there that scripts/test installs.
const peers = false
