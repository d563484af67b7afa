package command

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"github.com/charmbracelet/x/ansi"
)

// JSON prints a value as indented JSON.
func JSON(out io.Writer, v any) error {
	e := json.NewEncoder(out)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

// Line prints a value as one line of JSON.
func Line(out io.Writer, v any) error {
	e := json.NewEncoder(out)
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

// Answer prints a value where --json was given, else a text.
func (c *Call) Answer(v any, text string) error {
	if c.JSON {
		return JSON(c.OutOrStdout(), v)
	}
	_, err := io.WriteString(c.OutOrStdout(), text)
	return err
}

// AnswerTable prints a value where --json was given, else a table.
func (c *Call) AnswerTable(v any, t *Table) error {
	if c.JSON {
		return JSON(c.OutOrStdout(), v)
	}
	_, err := io.WriteString(c.OutOrStdout(), t.String())
	return err
}

// Table is a table of text, whose columns are as wide as their widest cell on a terminal. The zero value is empty.
type Table struct{ rows [][]string }

// Row adds a row.
func (t *Table) Row(cells ...any) {
	row := make([]string, len(cells))
	for i, cell := range cells {
		row[i] = fmt.Sprint(cell)
	}
	t.rows = append(t.rows, row)
}

// String is the rows, two spaces between columns.
func (t *Table) String() string {
	var wide []int
	for _, row := range t.rows {
		for i, cell := range row {
			if i == len(wide) {
				wide = append(wide, 0)
			}
			wide[i] = max(wide[i], ansi.StringWidth(cell))
		}
	}
	var b strings.Builder
	for _, row := range t.rows {
		line := ""
		for i, cell := range row {
			line += cell + strings.Repeat(" ", wide[i]-ansi.StringWidth(cell)+2)
		}
		b.WriteString(strings.TrimRight(line, " ") + "\n")
	}
	return b.String()
}
