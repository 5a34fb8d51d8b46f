package lamp

import "testing"

func TestText(t *testing.T) {
	if Text() != "two white, one red\n" {
		t.Fatal(Text())
	}
}
