package tui

import (
	"github.com/charmbracelet/colorprofile"

	"meatus/core/prefs"
	"meatus/tui/theme"
)

// lookOf is the look of a person's settings. A ground that is not set is dark until the terminal
// says what it is.
func lookOf(p prefs.Look) theme.Look {
	grounds := map[string]theme.Ground{"light": theme.Light, "terminal": theme.Terminal, "none": theme.None}
	return theme.Look{Ground: grounds[p.Ground], RedGreen: p.Colours == "red-green", Still: p.Motion == "reduced"}
}

// coloured takes how many colours the terminal has, where no ground is set: with 16 the terminal's
// own are used, with none what stands out does so by its weight.
func (a *App) coloured(p colorprofile.Profile) {
	look := a.theme.Look
	switch {
	case p == colorprofile.ASCII, p == colorprofile.NoTTY: // NO_COLOR, too
		look.Ground = theme.None
	case a.options.Prefs.Look.Ground != "":
		return
	case p == colorprofile.ANSI:
		look.Ground = theme.Terminal
	default:
		return
	}
	*a.theme = *theme.Made(look)
}

// inMarks is a screen with the marks and lines that the terminal has, or that the person wants.
func (a *App) inMarks(screen string) string {
	screen = theme.Glyphs(screen)
	switch marks := a.options.Prefs.Look.Marks; {
	case marks == "full":
		return screen
	case marks == "plain" || a.ascii:
		return theme.ASCII(screen)
	case theme.OnConsole():
		return theme.Console(screen)
	}
	return screen
}
