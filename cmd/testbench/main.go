// Command testbench builds and runs authenticated requests against SOAP, REST
// and ERP endpoints, and checks what comes back.
package main

import (
	"context"
	"io"
	"log"
	"os"
	"os/signal"
	"runtime"
	"runtime/debug"
	"sync/atomic"
	"syscall"
	"time"

	"testbench/internal/cli"
)

func main() {
	os.Exit(run())
}

// atOnce is what a second interrupt leaves for writing down what came so far.
const atOnce = 2 * time.Second

// run hands arguments, streams and signals on. The first interrupt ends the work in order, a
// second one at once.
func run() int {
	// net/http tells there of answers that nobody asked for.
	log.SetOutput(io.Discard)
	// Memory is given back less often: runs make much and hold little of it. Where they hold
	// much, it is given back as soon as there is so much in all. The first time waits twice as long: most
	// commands are done before it.
	debug.SetGCPercent(800)
	runtime.AddCleanup(new([64]byte), func(int) { debug.SetGCPercent(400) }, 0)
	debug.SetMemoryLimit(1 << 30)
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	kill, stopNow := context.WithCancel(context.Background())
	defer stopNow()
	signals := make(chan os.Signal, 3)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	var terminated atomic.Bool
	status := func(status int) int {
		if status == cli.ExitInterrupted && terminated.Load() {
			return cli.ExitTerminated
		}
		return status
	}
	go func() {
		terminated.Store(<-signals == syscall.SIGTERM)
		stop()
		<-signals
		stopNow()
		select {
		case <-signals:
		case <-time.After(atOnce):
		}
		os.Exit(status(cli.ExitInterrupted))
	}()
	return status(cli.Main(ctx, kill, os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}
