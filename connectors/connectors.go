// Package connectors ships the connector documents: data, not code.
package connectors

import "embed"

// Files holds every shipped connector document.
//
//go:embed *.yaml
var Files embed.FS
