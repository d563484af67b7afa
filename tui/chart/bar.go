package chart

import (
	"fmt"
	"strings"
	"time"

	"meatus/core/cargo"
	"meatus/core/gate"
	"meatus/core/words"
	"meatus/tui/fit"
	"meatus/tui/theme"
)

// Bar draws how far a carry is, in one line.
func Bar(t *theme.Theme, p cargo.Progress, width int) string {
	full := int(p.Share() * float64(width))
	say := t.Live.Render(strings.Repeat("━", full)) + t.Rule.Render(strings.Repeat("┄", width-full)) +
		fmt.Sprintf(" %.0f %%  ", p.Share()*100)
	if p.Names > 1 {
		say += fmt.Sprintf("%d of %d names  ", p.NamesDone, p.Names)
	}
	say += fmt.Sprintf("%s of %s  %s/s", words.Bytes(float64(p.BytesDone)), words.Bytes(float64(p.Bytes)), words.Bytes(p.Rate))
	if p.Left >= time.Second {
		say += "  " + fit.Ago(p.Left) + " left"
	}
	switch {
	case p.Waiting:
		say += "  " + t.Verdict(gate.Ajar).Render("the line is lost, it goes on when it is back")
	case p.Paused:
		say += "  " + t.Verdict(gate.Ajar).Render("paused")
	case p.Now != "":
		say += "  " + t.Faint.Render(cargo.Say(p.Now))
	}
	return say
}
