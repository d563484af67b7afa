package pager

import (
	"strings"

	"meatus/tui/fit"
)

// Lines breaks a Markdown text into lines of at most width columns. Paragraphs and list items are filled; code, tables and
// headings keep their lines, of which long ones go on in the next.
func Lines(text string, width int) []string {
	var out, paragraph []string
	indent, code := 0, false
	flush := func() {
		if len(paragraph) > 0 {
			out = append(out, hang(strings.Join(paragraph, " "), indent, width)...)
		}
		paragraph = nil
	}
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\n")
		trimmed := strings.TrimSpace(line)
		switch {
		case strings.HasPrefix(trimmed, "```"):
			flush()
			code = !code
		case code:
			out = append(out, fit.Cut("    "+line, width))
		case trimmed == "":
			flush()
			out = append(out, "")
		case strings.HasPrefix(trimmed, "|--"), strings.HasPrefix(trimmed, "|:-"):
			flush()
		case strings.HasPrefix(trimmed, "|"):
			flush()
			out = append(out, hang(row(trimmed), 4, width)...)
		case strings.HasPrefix(line, "#"):
			flush()
			out = append(out, fit.Cut(line, width))
		default:
			if n := item(line); n > 0 {
				flush()
				indent = n
			} else if len(paragraph) == 0 {
				indent = 0
			}
			if len(paragraph) > 0 {
				line = trimmed
			}
			paragraph = append(paragraph, line)
		}
	}
	flush()
	return out
}

// row is a row of a table as text.
func row(line string) string {
	cells := strings.Split(strings.ReplaceAll(strings.Trim(line, "|"), `\|`, "\x00"), "|")
	for i := range cells {
		cells[i] = strings.ReplaceAll(strings.TrimSpace(cells[i]), "\x00", "|")
	}
	return strings.Join(cells, "  ")
}

// item is where the text of a list item begins, or 0 for other lines.
func item(line string) int {
	text := strings.TrimLeft(line, " ")
	mark, _, ok := strings.Cut(text, " ")
	if ok && (mark == "-" || mark == "*" || len(mark) > 1 && strings.Trim(mark, "0123456789") == ".") {
		return len(line) - len(text) + len(mark) + 1
	}
	return 0
}

// hang wraps a line; those after the first begin at a column.
func hang(line string, column, width int) []string {
	if column >= width {
		column = 0
	}
	return fit.Hang(line, column, width).Whole
}
