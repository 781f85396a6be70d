module testbench

go 1.26.8

require (
	cel.dev/cel-go v0.33.2
	filippo.io/age v1.3.2
	github.com/cockroachdb/apd/v3 v3.2.3
	github.com/go-json-experiment/json v1.27.2
	github.com/stretchr/testify v1.12.1
	golang.org/x/text v0.43.0
)

require (
	cel.dev/expr v0.25.1 // indirect
	filippo.io/hpke v0.4.0 // indirect
	github.com/antlr4-go/antlr/v4 v4.13.1 // indirect
	go.yaml.in/yaml/v3 v3.0.5 // indirect
	golang.org/x/crypto v0.55.0 // indirect
	golang.org/x/exp v0.0.0-20240823005443-9b4947da3948 // indirect
	golang.org/x/sys v0.47.0 // indirect
	google.golang.org/genproto/googleapis/api v0.0.0-20240826202546-f6391c0de4c7 // indirect
	google.golang.org/genproto/googleapis/rpc v0.0.0-20240826202546-f6391c0de4c7 // indirect
	google.golang.org/protobuf v1.36.10 // indirect
)
