package command

import (
	"fmt"
	"testing"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/route"
)

func TestEachErrorHasItsStatus(t *testing.T) {
	for _, c := range []struct {
		err  error
		want int
	}{
		{nil, Done},
		{fmt.Errorf("odd"), Failed},
		{Exit(37), 37},
		{fmt.Errorf("walking: %w", &gate.Failure{Hop: "quay"}), Blocked},
		{book.Problem{Say: "broken"}, Blocked},
		{fmt.Errorf("%w %q", route.ErrNoSession, "x"), WrongUse},
	} {
		if got := Status(c.err); got != c.want {
			t.Errorf("%v ends with %d, want %d", c.err, got, c.want)
		}
	}
}
