package tides

import "testing"

func TestStations(t *testing.T) {
	if codes := Stations(); len(codes) != 2 || codes[0] != "ardle" {
		t.Fatalf("%q", codes)
	}
}
