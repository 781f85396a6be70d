package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"sync"
	"time"

	"testbench/internal/safefile"
	"testbench/internal/simulation"
	"testbench/internal/workbench"
)

// simulated is how a simulation answers: as a script says, or as a run was answered.
func simulated(s *session, o *standinOptions) (options simulation.Options, err error) {
	if o.script != "" {
		data, err := readFile(s, o.script)
		if err != nil {
			return options, err
		}
		if options.Script, err = simulation.ReadScript(fromHere(o.script), data); err != nil {
			return options, err
		}
	}
	if o.play != "" {
		run, done, err := storedRun(s, o.play)
		if err != nil {
			return options, err
		}
		options.Played = workbench.PlayedOf(run)
		done()
	}
	return options, nil
}

// runStandin answers for a service by its contract until it is interrupted.
func runStandin(ctx context.Context, s *session, o *standinOptions) (int, error) {
	host, _, err := net.SplitHostPort(o.listen)
	if err != nil {
		return 0, usagef("-listen 127.0.0.1:8720", "-listen %s: %v", o.listen, err)
	}
	if host == "" {
		return 0, usagef("-listen 127.0.0.1:8720; 0.0.0.0 is every address of the machine",
			"-listen %s names no address", o.listen)
	}
	bench, err := s.openOrNone()
	if err != nil {
		return 0, err
	}
	listener, err := net.Listen("tcp", o.listen)
	if err != nil {
		return 0, explainListen(o.listen, err)
	}
	defer func() { _ = listener.Close() }()
	base := "http://" + listener.Addr().String()
	options, err := simulated(s, o)
	if err != nil {
		return 0, err
	}
	var mutex sync.Mutex
	record := json.NewEncoder(s.tell.err)
	if o.record != "" {
		file, err := safefile.Append(o.record)
		if err != nil {
			return 0, err
		}
		defer func() { _ = file.Close() }()
		record = json.NewEncoder(file)
	}
	record.SetEscapeHTML(false)
	options.Record = func(asked simulation.Asked) {
		mutex.Lock()
		defer mutex.Unlock()
		if o.record != "" {
			_ = record.Encode(asked)
		}
		line := fmt.Sprintf("%s %s %d %s", asked.Method, asked.Path, asked.Status, asked.AnsweredBy)
		for _, one := range asked.Wrong {
			line += "\n    " + one
		}
		s.tell.note("%s", s.tell.visible(line))
	}
	service, err := workbench.Simulation(ctx, bench, o.contract, base, s.stdin, options, s.options())
	if err != nil {
		return 0, err
	}
	server := &http.Server{
		Handler: service, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: time.Minute,
		MaxHeaderBytes: 64 << 10,
	}
	s.tell.printf("%s\n", base)
	if err := serve(ctx, server, listener, 5*time.Second); err != nil && !errors.Is(err, context.DeadlineExceeded) {
		return 0, err
	}
	return ExitPassed, nil
}
