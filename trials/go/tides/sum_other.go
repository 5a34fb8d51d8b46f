//go:build !amd64

package tides

// Sum adds two heights.
func Sum(a, b int64) int64 { return a + b }
