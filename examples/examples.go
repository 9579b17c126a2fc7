// Package examples carries the declarations that ship with Mill Gate.
package examples

import "embed"

// Fernhollow is the demo declaration with its OpenAPI files.
//
//go:embed fernhollow/*.yaml
var Fernhollow embed.FS
