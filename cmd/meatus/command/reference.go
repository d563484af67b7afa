package command

import (
	"fmt"
	"strings"
)

// Reference is all commands as Markdown: what each does, its own exit statuses, what --json prints, and its examples.
func Reference(top *Command) string {
	var b strings.Builder
	fmt.Fprintf(&b, "Exit status: %s. Commands with others say so.\n`meatus help exit-status` lists all.\n", statuses)
	for _, c := range top.Commands {
		reference(&b, "meatus", c, 2)
	}
	return b.String()
}

func reference(b *strings.Builder, above string, c *Command, level int) {
	fmt.Fprintf(b, "\n%s `%s %s`\n\n%s.\n", strings.Repeat("#", level), above, c.Use, strings.ToUpper(c.Summary[:1])+c.Summary[1:])
	if c.Status != "" {
		fmt.Fprintf(b, "Exit status: %s.\n", c.Status)
	}
	if c.JSON != "" {
		fmt.Fprintf(b, "`--json`: %s.\n", c.JSON)
	}
	fmt.Fprintf(b, "\n```\n%s\n```\n", strings.Join(c.Examples, "\n"))
	name, _, _ := strings.Cut(c.Use, " ")
	for _, sub := range c.Commands {
		reference(b, above+" "+name, sub, level+1)
	}
}
