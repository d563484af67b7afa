// Package command declares the commands of the program. One [Command] value holds everything said of a command: its
// summary, details, examples, exit statuses, flags and completions. Help, shell completions and docs/commands.md are made
// from it.
package command

import (
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// Command is one command.
type Command struct {
	Use      string   // the name and the arguments, as "remove NAME..."
	Summary  string   // one line, beginning with a verb
	Details  string   // what the help says behind it, or ""
	Examples []string // whole command lines
	Status   string   // its own exit statuses besides those of every command, or ""
	JSON     string   // what --json prints, or "" for a command without it
	Args     cobra.PositionalArgs
	Complete Completer // proposes arguments
	Files    bool      // arguments can be local files
	Verbatim bool      // flags behind the first argument are arguments, too
	Passes   bool      // the exit status is that of a program it runs: its own failures end with 250 more
	Run      func(*Call, []string) error
	Commands []*Command

	flags, shared *pflag.FlagSet
	values        map[string]value // of flags, by name
	required      []string
	apart         [][]string
}

// value is the value of a flag.
type value struct {
	name     string // as help shows it
	complete Completer
}

// Flags are the command's own flags.
func (c *Command) Flags() *pflag.FlagSet { return set(&c.flags) }

// Shared are the flags of the command and of those below it.
func (c *Command) Shared() *pflag.FlagSet { return set(&c.shared) }

func set(f **pflag.FlagSet) *pflag.FlagSet {
	if *f == nil {
		*f = pflag.NewFlagSet("", pflag.ContinueOnError)
	}
	return *f
}

// Value names the value of a flag in the help. Complete, which may be nil, proposes values.
func (c *Command) Value(flag, name string, complete Completer) {
	if c.values == nil {
		c.values = map[string]value{}
	}
	c.values[flag] = value{name, complete}
}

// Require has the command fail without these flags.
func (c *Command) Require(flags ...string) { c.required = append(c.required, flags...) }

// Apart has the command fail where more than one of these flags is given.
func (c *Command) Apart(flags ...string) { c.apart = append(c.apart, flags) }

// Call is one call of a command.
type Call struct {
	*cobra.Command
	JSON bool // --json was given
}

// Program makes the whole command line of a program out of its commands and topics of help. Open opens the workspace for
// completions.
func Program(top *Command, topics []Topic, open Opener) *cobra.Command {
	c := top.cobra(open)
	c.SilenceErrors, c.SilenceUsage = true, true
	c.InitDefaultCompletionCmd()
	for _, sub := range c.Commands() {
		if sub.Name() == "completion" {
			completions(sub)
		}
	}
	c.SetUsageTemplate(usage)
	c.SetHelpCommand(help(topics))
	wrongUse(c)
	return c
}

// cobra makes the library's command.
func (c *Command) cobra(open Opener) *cobra.Command {
	made := &cobra.Command{Use: c.Use, Short: c.Summary, Long: c.long(), Args: c.Args, Example: examples(c.Examples), Annotations: map[string]string{statusOf: c.Status}}
	if c.Passes {
		made.Annotations[passes] = "yes"
	}
	call := &Call{Command: made}
	if c.Run != nil {
		made.RunE = func(_ *cobra.Command, args []string) error { return c.Run(call, args) }
	} else {
		made.Args, made.RunE = cobra.ArbitraryArgs, onlyCommands
	}
	if c.flags != nil {
		made.Flags().AddFlagSet(c.flags)
	}
	if c.shared != nil {
		made.PersistentFlags().AddFlagSet(c.shared)
	}
	made.Flags().SetInterspersed(!c.Verbatim)
	if c.JSON != "" {
		made.Flags().BoolVar(&call.JSON, "json", false, c.JSON)
	}
	for flag, v := range c.values {
		f := made.Flag(flag)
		f.Annotations = map[string][]string{valueOf: {v.name}}
		if v.complete != nil {
			made.RegisterFlagCompletionFunc(flag, propose(open, v.complete, false))
		}
	}
	for _, name := range c.required {
		made.MarkFlagRequired(name)
	}
	for _, names := range c.apart {
		made.MarkFlagsMutuallyExclusive(names...)
	}
	if c.Complete != nil {
		made.ValidArgsFunction = propose(open, c.Complete, c.Files)
	}
	for _, sub := range c.Commands {
		made.AddCommand(sub.cobra(open))
	}
	return made
}

// long is what the help says at its head.
func (c *Command) long() string {
	if c.Details == "" {
		return ""
	}
	return strings.ToUpper(c.Summary[:1]) + c.Summary[1:] + ".\n\n" + c.Details
}

// Open opens the file that an argument names, or standard input for "-".
func (c *Call) Open(path string) (io.ReadCloser, error) {
	if path == "-" {
		return io.NopCloser(c.InOrStdin()), nil
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, Fail(WrongUse, err)
	}
	return f, nil
}
