package place

import (
	"meatus/tui/fit"
	"meatus/tui/theme"
)

// leastHalf is how many columns a list, and what is chosen in it, need each.
const leastHalf = 78

// Halves is how a place with a list, and with what is told of the chosen one, shares its width:
// side by side, each with the full height, where both have the columns they need; else one below
// the other, each with the whole width.
func Halves(width int) (list, pane int, beside bool) {
	if width < 2*leastHalf+1 {
		return width, width, false
	}
	list = (width - 1) / 2
	return list, width - 1 - list, true
}

// Joined are a list and what is told of the chosen one side by side, in so many rows.
func Joined(t *theme.Theme, list, pane []string, width, rows int) []string {
	rule := t.Rule.Render("│")
	out := make([]string, 0, rows)
	for i := range rows {
		left, right := "", ""
		if i < len(list) {
			left = list[i]
		}
		if i < len(pane) {
			right = pane[i]
		}
		out = append(out, fit.Pad(left, width)+rule+right)
	}
	return out
}
