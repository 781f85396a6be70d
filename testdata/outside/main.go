// Command outside is a program in a module of its own that uses Test Bench: it runs a sheet
// and makes a call.
package main

import (
	"context"
	"fmt"
	"os"

	"testbench"
)

func main() {
	if err := check(context.Background(), os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func check(ctx context.Context, dir string) error {
	bench, err := testbench.Open(dir)
	if err != nil {
		return err
	}
	result, err := bench.Run(ctx, []string{"sheets/06-too-moist.yaml"}, testbench.RunOptions{Unrecorded: true})
	if err != nil {
		return err
	}
	for _, sheet := range result.Sheets {
		for _, row := range sheet.Rows {
			for _, step := range row.Steps {
				fmt.Println(row.Name(), step.Name, step.Outcome, len(step.Exchanges))
				for _, line := range step.Failures {
					fmt.Println("  " + line)
				}
			}
		}
	}
	step, err := bench.Call(ctx,
		testbench.Call{Target: []string{"stores/search"}, Fields: map[string]string{"grade": "A"}}, testbench.Options{})
	if err != nil {
		return err
	}
	fmt.Println(step.Target, step.Outcome, step.Exchanges[0].Status)
	return nil
}
