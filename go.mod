module testbench

go 1.26.8

require (
	cel.dev/cel-go v0.33.2
	filippo.io/age v1.3.2
	github.com/Azure/go-ntlmssp v0.1.1
	github.com/cockroachdb/apd/v3 v3.2.3
	github.com/dlclark/regexp2 v1.12.0
	github.com/dunglas/httpsfv v1.1.2
	github.com/go-json-experiment/json v1.27.2
	github.com/golang-jwt/jwt/v5 v5.3.1
	github.com/jcmturner/gokrb5/v8 v8.4.4
	github.com/santhosh-tekuri/jsonschema/v6 v6.0.3
	github.com/stretchr/testify v1.12.1
	github.com/youmark/pkcs8 v0.0.0-20240726163527-a2c0da244d78
	go.yaml.in/yaml/v4 v4.0.0
	golang.org/x/crypto v0.57.0
	golang.org/x/net v0.59.0
	golang.org/x/term v0.46.0
	golang.org/x/text v0.43.0
	software.sslmate.com/src/go-pkcs12 v0.7.4
)

require (
	cel.dev/expr v0.25.1 // indirect
	filippo.io/hpke v0.4.0 // indirect
	github.com/BurntSushi/toml v1.4.1-0.20240526193622-a339e1f7089c // indirect
	github.com/antlr4-go/antlr/v4 v4.13.1 // indirect
	github.com/hashicorp/go-uuid v1.0.3 // indirect
	github.com/jcmturner/aescts/v2 v2.0.0 // indirect
	github.com/jcmturner/dnsutils/v2 v2.0.0 // indirect
	github.com/jcmturner/gofork v1.7.6 // indirect
	github.com/jcmturner/goidentity/v6 v6.0.1 // indirect
	github.com/jcmturner/rpc/v2 v2.0.3 // indirect
	go.yaml.in/yaml/v3 v3.0.5 // indirect
	golang.org/x/exp v0.0.0-20240823005443-9b4947da3948 // indirect
	golang.org/x/exp/typeparams v0.0.0-20231108232855-2478ac86f678 // indirect
	golang.org/x/mod v0.41.0 // indirect
	golang.org/x/sync v0.24.0 // indirect
	golang.org/x/sys v0.48.0 // indirect
	golang.org/x/tools v0.51.0 // indirect
	google.golang.org/genproto/googleapis/api v0.0.0-20240826202546-f6391c0de4c7 // indirect
	google.golang.org/genproto/googleapis/rpc v0.0.0-20240826202546-f6391c0de4c7 // indirect
	google.golang.org/protobuf v1.36.10 // indirect
	honnef.co/go/tools v0.8.2 // indirect
)

tool honnef.co/go/tools/cmd/staticcheck
