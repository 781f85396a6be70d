package main

import (
	"os"
	"testing"

	"testbench/benchtest"
)

func TestPartner(t *testing.T) {
	benchtest.Run(t, os.Getenv("DEMO_BENCH"), "sheets/01-search.yaml", "sheets/04-rows.yaml")
}
