package work

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"meatus/core/remote"
)

func result(session, out string, status int) Result {
	return Result{Session: session, Outcome: remote.Outcome{Out: []byte(out), Ending: remote.Ending{Status: status}}}
}

func TestWhatIsAlikeIsTogetherAndTheRestIsMarked(t *testing.T) {
	broken := result("d", "", 0)
	broken.Failed = errors.New("nobody answers")
	loud := result("e", "one\ntwo\n", 0)
	loud.Err = []byte("a \x1b[31mwarning\n")
	all := Gather([]Result{result("a", "one\nother\nthree\n", 0), result("b", "one\ntwo\nthree\n", 0), broken, result("c", "one\ntwo\nthree\n", 0), loud, result("f", "one\ntwo\nthree\n", 1)})
	var b strings.Builder
	for _, alike := range all {
		fmt.Fprintf(&b, "[%s: %s]", strings.Join(alike.Sessions, " "), alike.Ended())
		for _, l := range alike.Lines {
			fmt.Fprintf(&b, " %c%s", l.Mark, l.Text)
		}
		b.WriteByte('\n')
	}
	want := `[b c: status 0]  one  two  three
[a: status 0]  one -two +other  three
[e: status 0]  one  two -three !a [31mwarning
[f: status 1]  one  two  three
[d: could not be run: nobody answers]
`
	if b.String() != want {
		t.Errorf("got\n%swant\n%s", b.String(), want)
	}
}

func TestLongOutputsAreShownAndNotCompared(t *testing.T) {
	long := strings.Repeat("x\n", maxCompared+1)
	all := Gather([]Result{result("a", long, 0), result("b", long+"y\n", 0)})
	if n := len(all[1].Lines); n != maxCompared+2 || all[1].Lines[0].Mark != '+' {
		t.Errorf("%d lines", n)
	}
}
