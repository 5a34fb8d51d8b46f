package tides_test

import (
	"fmt"
	"testing"

	"tides"
)

func TestSum(t *testing.T) {
	if tides.Sum(40, 2) != 42 {
		t.Fail()
	}
}

func ExampleSum() {
	fmt.Println(tides.Sum(1, 2))
	// Output: 3
}
