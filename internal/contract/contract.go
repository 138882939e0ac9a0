// Package contract is what the service promises: openapi.yaml, written by hand, and the models generated from it. The server
// interface (api/server), the Go client (client) and the console's types are generated from the same file.
package contract

import _ "embed" // the contract itself

// OpenAPI is the contract as YAML.
//
//go:embed openapi.yaml
var OpenAPI []byte
