// Command testbench builds and runs authenticated requests against SOAP, REST
// and ERP endpoints, and checks what comes back.
package main

import (
	"context"
	"io"
	"log"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"

	"testbench/internal/cli"
)

func main() {
	os.Exit(run())
}

// run hands arguments, streams and signals on. The first interrupt ends the
// work in order, a second one cuts that short, a third ends the program.
func run() int {
	// net/http tells there of answers that nobody asked for.
	log.SetOutput(io.Discard)
	// Memory is given back less often: runs make much and hold little of it. Where they hold
	// much, it is given back as soon as there is so much in all.
	debug.SetGCPercent(400)
	debug.SetMemoryLimit(1 << 30)
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	kill, stopNow := context.WithCancel(context.Background())
	defer stopNow()
	signals := make(chan os.Signal, 3)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	go func() {
		<-signals
		stop()
		<-signals
		stopNow()
		<-signals
		os.Exit(cli.ExitInterrupted)
	}()
	return cli.Main(ctx, kill, os.Args[1:], os.Stdin, os.Stdout, os.Stderr)
}
