// Package lamp knows how the lights are shown.
package lamp

import _ "embed"

//go:embed lamp.txt
var text string

// Text says it.
func Text() string { return text }
