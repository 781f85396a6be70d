package testbench_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"testbench"
	"testbench/internal/standin"
	"testbench/internal/standin/demo"
)

// demo writes the demo bench, with its services running, and says how to be rid of both.
func demoBench() (dir string, end func()) {
	server, err := standin.Start("127.0.0.1:0", standin.Options{})
	if err != nil {
		panic(err)
	}
	dir, err = os.MkdirTemp("", "bench-")
	if err == nil {
		err = demo.Write(dir, "http://"+server.Address)
	}
	if err != nil {
		panic(err)
	}
	for name, text := range standin.Secrets {
		_ = os.Setenv("TESTBENCH_SEALED_"+strings.ToUpper(name), text)
	}
	return dir, func() {
		server.Close()
		_ = os.RemoveAll(dir)
	}
}

// A sheet of a bench is run, and what came of its steps is looked at.
func ExampleBench_Run() {
	dir, end := demoBench()
	defer end()
	bench, err := testbench.Open(dir)
	if err != nil {
		panic(err)
	}
	result, err := bench.Run(context.Background(), []string{"sheets/06-too-moist.yaml"},
		testbench.RunOptions{Unrecorded: true})
	if err != nil {
		panic(err)
	}
	fmt.Println(result.Outcome)
	for _, row := range result.Sheets[0].Rows {
		for _, step := range row.Steps {
			fmt.Println(row.Label, step.Name, step.Outcome)
		}
	}
	// Output:
	// failed
	// L-2207 grade passed
	// L-2207 book passed
	// L-2207 read it back passed
	// L-2207 tidy up passed
	// L-2208 grade passed
	// L-2208 book failed
	// L-2208 read it back not run
	// L-2208 tidy up not run
}

// What is wrong with a bench and its sheets is told without anything being sent.
func ExampleBench_Vet() {
	dir, end := demoBench()
	defer end()
	wrong := "sheet: wrong\nsteps:\n  - step: search\n    call: stores/serch\n"
	if err := os.WriteFile(filepath.Join(dir, "sheets", "wrong.yaml"), []byte(wrong), 0o600); err != nil {
		panic(err)
	}
	bench, err := testbench.Open(dir)
	if err != nil {
		panic(err)
	}
	vetted, err := bench.Vet(context.Background(), []string{"sheets/wrong.yaml"}, testbench.Options{})
	if err != nil {
		panic(err)
	}
	fmt.Println(vetted.Problems[0].Line, vetted.Problems[0].Message, vetted.Problems[0].Try)
	// Output: 4 there is no operation of stores "serch" did you mean "search"?
}

// A single call is made with the login of its service.
func ExampleBench_Call() {
	dir, end := demoBench()
	defer end()
	bench, err := testbench.Open(dir)
	if err != nil {
		panic(err)
	}
	call := testbench.Call{Target: []string{"stores/search"}, Fields: map[string]string{"grade": "A"}}
	step, err := bench.Call(context.Background(), call, testbench.Options{})
	if err != nil {
		panic(err)
	}
	last := step.Exchanges[len(step.Exchanges)-1]
	fmt.Println(step.Outcome, last.Status, strings.Contains(last.Body, "north"))
	fmt.Println(last.RequestHeader["Authorization"][0])
	_, err = bench.Call(context.Background(), testbench.Call{Target: []string{"stores/serch"}}, testbench.Options{})
	var wrong *testbench.Error
	if errors.As(err, &wrong) {
		fmt.Println(wrong.Message + " | " + wrong.Try)
	}
	// Output:
	// passed 200 true
	// Bearer [masked]
	// there is no operation of stores "serch" | did you mean "search"?
}
