package command

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"meatus/core/sanitize"
)

// Topic is a page of help that is about no command.
type Topic struct {
	Name    string
	Summary string // one line
	Show    func(c *Call) error
}

// help is the help command: of commands, and of topics.
func help(topics []Topic) *cobra.Command {
	list := ""
	for _, t := range topics {
		list += fmt.Sprintf("\n  %-12s %s", t.Name, t.Summary)
	}
	return &cobra.Command{
		Use:     "help [COMMAND|TOPIC]",
		Short:   "show the help of a command, or a topic",
		Long:    "Show the help of a command, or a topic.\n\nTopics:" + list,
		Example: examples([]string{"meatus help run", "meatus help exit-status"}),
		ValidArgsFunction: func(c *cobra.Command, before []string, begins string) ([]string, cobra.ShellCompDirective) {
			var fit []string
			at, _, err := c.Root().Find(before)
			if err != nil {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			for _, sub := range at.Commands() {
				if strings.HasPrefix(sub.Name(), begins) && sub.IsAvailableCommand() {
					fit = append(fit, sub.Name())
				}
			}
			for _, t := range topics {
				if len(before) == 0 && strings.HasPrefix(t.Name, begins) {
					fit = append(fit, t.Name)
				}
			}
			return fit, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 1 {
				if i := slices.IndexFunc(topics, func(t Topic) bool { return t.Name == args[0] }); i >= 0 {
					return topics[i].Show(&Call{Command: c})
				}
			}
			of, rest, err := c.Root().Find(args)
			if err != nil || len(rest) > 0 {
				return Fail(WrongUse, fmt.Errorf("there is no command or topic %q; the topics are:%s", sanitize.Line(strings.Join(args, " "), 80), list))
			}
			of.InitDefaultHelpFlag()
			if of == c.Root() {
				defer fmt.Fprintf(c.OutOrStdout(), "\nTopics, for meatus help TOPIC:%s\n", list)
			}
			return of.Help()
		},
	}
}
