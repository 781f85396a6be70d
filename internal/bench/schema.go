package bench

import (
	"testbench/internal/document"
	"testbench/internal/login"
	"testbench/internal/mapping"
)

// Schema is the JSON Schema of bench.yaml, made of the tables by which it is read. The schema of a
// named check is that of sheets.
func Schema(checks *document.Node) string {
	return mapping.FileSchema("bench", "bench.yaml of Test Bench",
		mapping.KeySchema(benchKeys, map[string]*document.Node{
			"logins": mapping.MapSchema(document.NewObject().Set("anyOf",
				document.NewList(login.Schema(), document.NewObject().Set("type", document.NewText("array"))))),
			"checks": mapping.MapSchema(checks), "fills": mapping.MapSchema(mapping.MapSchema(document.NewObject())),
		}), nil)
}

// Mappings are the keys of each mapping that is in bench.yaml, by what it is called.
func Mappings() map[string][]string {
	return map[string][]string{
		"site": mapping.KeyNames(siteKeys), "tls": mapping.KeyNames(tlsKeys), "proxy": mapping.KeyNames(proxyKeys),
		"error":     mapping.KeyNames(errorKeys),
		"service":   mapping.KeyNames(serviceKeys),
		"always":    mapping.KeyNames(alwaysKeys),
		"operation": mapping.KeyNames(operationKeys),
		"parameter": mapping.KeyNames(listedKeys), "database": mapping.KeyNames(databaseKeys),
		"oauth2": login.Mappings()["oauth2"],
	}
}

func init() {
	mapping.RegisterKeys("the bench", benchKeys)
	mapping.RegisterKeys("a site", siteKeys)
	mapping.RegisterKeys("a service", serviceKeys)
	mapping.RegisterKeys("an operation", operationKeys)
}
