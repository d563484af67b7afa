package cargo

import (
	"testing"
	"time"
)

// What a stream takes before its first file is not held against it: a short stream shows little else.
func TestStreamsAreJudgedByWhatAFurtherFileTakes(t *testing.T) {
	const ms = time.Millisecond
	for name, c := range map[string]struct {
		byFile         time.Duration
		first, further time.Duration // how long streams of 256 and 1024 files took
		left           int
		slower         bool
	}{
		"a start that takes long, and many files": {byFile: ms / 5, first: 120 * ms, further: 150 * ms, left: 9000},
		"the same, and few files":                 {byFile: ms / 5, first: 120 * ms, further: 150 * ms, left: 300, slower: true},
		"a far side that packs slowly":            {byFile: ms / 5, first: 120 * ms, further: 420 * ms, left: 9000, slower: true},
		"a second stream that was quicker":        {byFile: ms, first: 120 * ms, further: 100 * ms, left: 9000},
	} {
		p := pace{byFile: c.byFile}
		if p.next(4000) != sampleFiles || p.slower(c.left, 4000) {
			t.Errorf("%s: it begins with %d files, and %v", name, p.next(4000), p)
		}
		p.stream(sampleFiles, c.first)
		if p.next(4000) != 4*sampleFiles || p.slower(c.left, 4000) {
			t.Errorf("%s: one stream decides: %v", name, p)
		}
		p.stream(4*sampleFiles, c.further)
		if p.next(4000) != 4000 || p.slower(c.left, 4000) != c.slower {
			t.Errorf("%s: %v, and it goes on with %d", name, p.slower(c.left, 4000), p.next(4000))
		}
	}
}
