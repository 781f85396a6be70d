package wadl_test

import (
	"os"
	"testing"

	"testbench/internal/contract"
	"testbench/internal/contract/wadl"
	"testbench/internal/document"
	"testbench/internal/schema"
)

func FuzzRead(f *testing.F) {
	data, err := os.ReadFile("../../standin/demo/bench/contracts/index.wadl")
	if err != nil {
		f.Fatal(err)
	}
	f.Add(data)
	f.Add([]byte(`<application xmlns="http://wadl.dev.java.net/2009/02"><resources><resource path="a/{b}" type="#t"><method href="#m"/></resource></resources><resource_type id="t"><resource path="c" type="#t"/></resource_type><method id="m" href="#m" name="GET"/></application>`))
	f.Fuzz(func(_ *testing.T, data []byte) {
		root, err := document.ReadXML(data, "")
		if err != nil || !wadl.Is(root) {
			return
		}
		c, err := wadl.Read("f", root, nil)
		if err != nil {
			return
		}
		for _, name := range c.Names() {
			if op, _ := c.Operation(name); op != nil {
				op.Build(op.SampleFields(schema.SampleOptions{Optional: true}), contract.BuildOptions{})
			}
		}
	})
}
