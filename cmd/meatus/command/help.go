package command

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// The keys of annotations: a command's own exit statuses, the name of a flag's value, and that a command passes on the exit
// status of a program.
const (
	statusOf = "status"
	valueOf  = "value"
	passes   = "passes"
)

func init() {
	cobra.AddTemplateFunc("plainFlags", flagLines)
	cobra.AddTemplateFunc("statuses", func(c *cobra.Command) string {
		all := statuses
		if c.Annotations[passes] != "" {
			all = passing
		}
		if own := c.Annotations[statusOf]; own != "" {
			return own + ";\n             " + all
		}
		return all
	})
}

// examples are command lines as help shows them.
func examples(lines []string) string {
	if len(lines) == 0 {
		return ""
	}
	return "  " + strings.Join(lines, "\n  ")
}

// helpWidth is the width of help, in columns.
const helpWidth = 96

// flagLines are flags as they are typed, with what they do.
func flagLines(flags *pflag.FlagSet) string {
	type line struct{ typed, does string }
	var lines []line
	width := 0
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Hidden {
			return
		}
		l := line{typed: "    --" + f.Name, does: f.Usage}
		if f.Shorthand != "" {
			l.typed = "-" + f.Shorthand + ", --" + f.Name
		}
		if f.Value.Type() != "bool" {
			l.typed += " " + valueName(f)
			if f.DefValue != "" && f.DefValue != "[]" && f.DefValue != "0" && f.DefValue != "0s" && f.DefValue != "-1" {
				l.does += " (default " + f.DefValue + ")"
			}
		}
		width = max(width, len(l.typed))
		lines = append(lines, l)
	})
	width = min(width, helpWidth/3)
	var b strings.Builder
	for _, l := range lines {
		indent := strings.Repeat(" ", width+6)
		fmt.Fprintf(&b, "  %-*s", width, l.typed)
		if len(l.typed) > width {
			b.WriteString("\n" + indent)
		} else {
			b.WriteString("    ")
		}
		used := 0
		for _, word := range strings.Fields(l.does) {
			if used > 0 && used+1+len(word) > helpWidth-len(indent) {
				b.WriteString("\n" + indent)
				used = 0
			}
			if used > 0 {
				b.WriteByte(' ')
				used++
			}
			b.WriteString(word)
			used += len(word)
		}
		b.WriteByte('\n')
	}
	return strings.TrimRight(b.String(), "\n")
}

// valueName is the name of a flag's value: the declared one, else one by its type.
func valueName(f *pflag.Flag) string {
	if name := f.Annotations[valueOf]; len(name) > 0 {
		return name[0]
	}
	kind := f.Value.Type()
	switch {
	case kind == "duration":
		return "TIME"
	case kind == "int":
		return "NUMBER"
	case strings.HasPrefix(kind, "string"):
		return "TEXT"
	}
	return kind
}

// completions words the command that the library makes as the others are worded.
func completions(c *cobra.Command) {
	c.Short, c.Long = "print the completion script of a shell", ""
	c.Example = examples([]string{"meatus completion bash > ~/.local/share/bash-completion/completions/meatus"})
	c.Args, c.RunE = cobra.ArbitraryArgs, onlyCommands
	for _, shell := range c.Commands() {
		shell.Short, shell.Long = "print the completion script of "+shell.Name(), ""
	}
}

const usage = `Usage:{{if .Runnable}}
  {{.UseLine}}{{end}}{{if .HasAvailableSubCommands}}
  {{.CommandPath}} COMMAND{{end}}{{if .HasExample}}

Examples:
{{.Example}}{{end}}{{if .HasAvailableSubCommands}}

Commands:{{range .Commands}}{{if .IsAvailableCommand}}
  {{rpad .Name .NamePadding}} {{.Short}}{{end}}{{end}}{{end}}{{if .HasAvailableLocalFlags}}

Flags:
{{plainFlags .LocalFlags}}{{end}}{{if .HasAvailableInheritedFlags}}

Flags of every command:
{{plainFlags .InheritedFlags}}{{end}}

Exit status: {{statuses .}}
`
