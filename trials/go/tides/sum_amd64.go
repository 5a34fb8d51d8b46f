package tides

// Sum adds two heights.
func Sum(a, b int64) int64
