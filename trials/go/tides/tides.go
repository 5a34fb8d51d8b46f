// Package tides knows the stations of the Skerrin Isles.
package tides

import (
	_ "embed"
	"strings"
)

//go:embed stations.csv
var table string

// Stations gives the codes of all stations.
func Stations() []string {
	var codes []string
	for _, line := range strings.Split(strings.TrimSpace(table), "\n")[1:] {
		codes = append(codes, strings.Split(line, ",")[0])
	}
	return codes
}
