package e2e

import (
	"encoding/json"
	"path/filepath"
	"strings"
	"testing"
)

// What needs a person is told on the command line as it stands above the board.
func TestWhatNeedsAPersonIsSummedUp(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(goldenBay(t), "bay")
	r := do(t, dir, "", "check", "--summary")
	lines := strings.Split(strings.TrimSpace(r.out), "\n")
	if r.status != 3 || len(lines) < 4 || !strings.HasPrefix(lines[0], "tide.pem") || !strings.Contains(lines[0], "set mode 0600") || !strings.Contains(r.out, "mast.pem") || !strings.Contains(r.out, "buoy") {
		t.Errorf("%+v", r)
	}
	var list []struct {
		Kind, Of, Say, Remedy string
		Sessions              int
		New                   bool
	}
	r = do(t, dir, "", "check", "--summary", "--json")
	if err := json.Unmarshal([]byte(r.out), &list); err != nil || len(list) != len(lines) || list[0].Kind != "exposed" || list[0].Sessions != 1 {
		t.Errorf("%v, %+v", err, r)
	}
	if r := do(t, dir, "", "check", "--summary", "quay"); !strings.Contains(r.out, "spare.pem") || strings.Contains(r.out, "tide.pem") {
		t.Errorf("%+v", r)
	}
}
