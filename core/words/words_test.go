package words

import "testing"

func TestThingsAreCounted(t *testing.T) {
	for n, want := range map[int]string{0: "0 keys", 1: "1 key", 2: "2 keys", 100: "100 keys"} {
		if got := Count(n, "key"); got != want {
			t.Errorf("%d: %s", n, got)
		}
	}
}
