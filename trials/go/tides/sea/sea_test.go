package sea

import "testing"

func TestLevel(t *testing.T) {
	if Root(4) != 2 || Level(3) != 6+2+30+6 {
		t.Fatal(Root(4), Level(3))
	}
}
