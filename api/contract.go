// Package api is the contract of the service: the document, and what is
// generated from it.
package api

import _ "embed"

// Contract is the OpenAPI document.
//
//go:embed openapi.yaml
var Contract []byte

//go:generate go tool oapi-codegen -config server.cfg.yaml openapi.yaml
//go:generate go tool oapi-codegen -config client.cfg.yaml openapi.yaml
