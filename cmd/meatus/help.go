package main

import (
	"fmt"
	"runtime/debug"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// examples are shown in the help of each command, by its path behind "meatus".
var examples = map[string][]string{
	"":                  {"meatus", "meatus --workspace ~/bay"},
	"check":             {"meatus check", "meatus check tide-db --as-far-as identity", "meatus check --summary", "meatus check --json"},
	"each":              {"meatus each reef -- uptime", "meatus each gauge-1 gauge-2 --at-once 2 -- df -h /"},
	"run":               {"meatus run gauge-1", "meatus run gauge-1 -- uptime", "meatus run -t gauge-1 -- top", "meatus run quay --lend keys/gauge.pem --lend-to gauge-1 -- ls"},
	"hold":              {"meatus hold tables", "meatus hold tables --json --ready /run/user/1000/tables.ready", "meatus hold quay --bring '15432 from tide-db.internal:5432'"},
	"tunnels":           {"meatus tunnels", "meatus tunnels --json", "meatus tunnels --flows csv > flows.csv"},
	"draw":              {"meatus draw -o bay.svg", "meatus draw --site reef --private -o reef.pdf", "meatus draw --paper a1 -o wall.pdf", "meatus draw gauge-1 --chart --over 2h -o chart.svg"},
	"trail":             {"meatus trail", "meatus trail tide-db --failed", "meatus trail --gateway bay", "meatus trail --json"},
	"gateway":           {"meatus gateway serve --at :443", "meatus gateway join wss://gateway.lantern.example --token-file token"},
	"gateway list":      {"meatus gateway list bay"},
	"gateway serve":     {"meatus gateway serve --at :443 --certificate bay.pem", "meatus gateway serve --store postgres:///bay --reached-at 192.0.2.7:443"},
	"gateway join":      {"meatus gateway join wss://gateway.lantern.example --token-file token", "meatus gateway join wss://gateway.lantern.example --also printer=10.61.4.99:22", "meatus gateway join wss://gateway.lantern.example --print-first-boot > first-boot.sh"},
	"gateway token":     {"meatus gateway token gauge-7 --tag reef --for 10m"},
	"gateway machines":  {"meatus gateway machines --json"},
	"gateway revoke":    {"meatus gateway revoke gauge-7"},
	"gateway explain":   {"meatus gateway explain mira gauge-7", "meatus gateway explain mira gauge-7 --when 2026-11-28T03:00:00Z"},
	"gateway record":    {"meatus gateway record --person mira", "meatus gateway record --json --last 0 > record.jsonl"},
	"gateway verify":    {"meatus gateway verify"},
	"issuer":            {"meatus issuer serve --at :4543", "meatus issuer enrol tide-db --issuer bay"},
	"issuer serve":      {"meatus issuer serve --at :4543 --certificate bay.pem", "meatus issuer serve --store postgres:///bay", "meatus issuer serve --agent-key SHA256:54c5B5WBJm7pzOoe1FGAi5P8mnsYSk4ZJ5zLxwgq0KQ"},
	"issuer enrol":      {"meatus issuer enrol tide-db --issuer bay", "meatus issuer enrol tide-db --issuer bay --host-certificate --trust-hosts --yes", "meatus issuer enrol tide-db --out --yes"},
	"issuer carry":      {"meatus issuer carry", "meatus issuer carry tide-db gauge-1 --sudo"},
	"issuer used":       {"meatus issuer used tide-db", "meatus issuer used tide-db --log /var/log/auth.log --sudo"},
	"issuer machines":   {"meatus issuer machines --json"},
	"issuer trust":      {"meatus issuer trust gauge-9 --tag reef --print-first-boot > first-boot.sh", "meatus issuer trust gauge-9 --no-more"},
	"issuer explain":    {"meatus issuer explain mira keeper@tide-db", "meatus issuer explain mira root@tide-db --when 2026-11-28T03:00:00Z --from 203.0.113.7"},
	"issuer who-can":    {"meatus issuer who-can tide-db"},
	"issuer can":        {"meatus issuer can mira --json"},
	"issuer policy":     {"meatus issuer policy new.policy", "meatus issuer policy new.policy --take", "meatus issuer policy"},
	"issuer leases":     {"meatus issuer leases --person mira"},
	"issuer stop":       {"meatus issuer stop person oskar", "meatus issuer stop lease 4711"},
	"issuer lift":       {"meatus issuer lift person oskar"},
	"issuer key":        {"meatus issuer key"},
	"issuer key next":   {"meatus issuer key next"},
	"issuer key change": {"meatus issuer key change"},
	"issuer emergency":  {"meatus issuer emergency /media/safe/bay.pem tide-db gauge-1 --as keeper --for 720h"},
	"issuer record":     {"meatus issuer record --person mira", "meatus issuer record --json --last 0 > record.jsonl"},
	"issuer verify":     {"meatus issuer verify"},
	"lease":             {"meatus lease", "meatus lease --issuer bay --json"},
	"lease agree":       {"meatus lease agree QK3V7H2M5XN4B6ZT2WRCJ5LPAY"},
	"lease decline":     {"meatus lease decline QK3V7H2M5XN4B6ZT2WRCJ5LPAY"},
	"lease withdraw":    {"meatus lease withdraw QK3V7H2M5XN4B6ZT2WRCJ5LPAY"},
	"estate":            {"meatus estate list", "meatus estate show gauge-2"},
	"estate list":       {"meatus estate list", "meatus estate list state=running tag:role=gauge --json"},
	"estate show":       {"meatus estate show gauge-2"},
	"estate changes":    {"meatus estate changes --kept"},
	"estate check":      {"meatus estate check bay.json"},
	"estate start":      {"meatus estate start gauge-2"},
	"estate stop":       {"meatus estate stop gauge-2 --yes"},
	"estate restart":    {"meatus estate restart id=i-2f81"},
	"estate end":        {"meatus estate end gauge-2"},
	"estate sources":    {"meatus estate sources --json"},
	"estate offer":      {"meatus estate offer"},
	"estate launch":     {"meatus estate launch --like gauge-1 --name gauge-9", "meatus estate launch --like quay --from 203.0.113.77 --dry"},
	"estate pairs":      {"meatus estate pairs", "meatus estate pairs sounding"},
	"estate pairs send": {"meatus estate pairs send keys/gauge.pem --name gauges"},
	"estate password":   {"meatus estate password survey-web"},
	"estate reach":      {"meatus estate reach quay tide-db:5432", "meatus estate reach 198.51.100.7 quay:22"},
	"estate expect":     {"meatus estate expect bay.expect"},
	"estate ways":       {"meatus estate ways tide-db:5432", "meatus estate ways gauge-1 --from 198.51.100.7"},
	"estate open":       {"meatus estate open sluice --for 1h", "meatus estate open", "meatus estate open quay --for 20m --from 198.51.100.7 --yes"},
	"estate close":      {"meatus estate close sluice", "meatus estate close"},
	"estate whatif":     {"meatus estate whatif tidy.rules", "meatus estate whatif tidy.rules --apply", "meatus estate whatif --undo"},
	"estate exposure":   {"meatus estate exposure", "meatus estate exposure network=reef --json", "meatus estate exposure --unused"},
	"estate unused":     {"meatus estate unused --days 30"},
	"hosts":             {"meatus hosts", "meatus hosts --sshfp"},
	"hosts expect":      {"meatus hosts expect fingerprints.txt"},
	"hosts trust":       {"meatus hosts trust '*.reef.example' hosts-signer.pub"},
	"export":            {"meatus export > sessions.csv", "meatus export --format json --effective"},
	"import":            {"meatus import sessions.csv", "meatus import sessions.json --yes"},
	"session":           {"meatus session add tide-db = keeper@10.61.4.20 via quay", "meatus session set gauge-1 gauge-2 keepalive=1m"},
	"session add":       {"meatus session add 'tide-db = keeper@10.61.4.20 via quay with tide.pem bring 15432 from db.internal:5432'"},
	"session set":       {"meatus session set tide-db port=2022 user=pilot", "meatus session set gauge-1 gauge-2 keepalive=1m", "meatus session set tide-db user="},
	"session remove":    {"meatus session remove tide-db"},
	"session show":      {"meatus session show tide-db", "meatus session show tide-db --json"},
	"session through":   {"meatus session through quay"},
	"send":              {"meatus send levels.csv tables/ tide-db:/srv/tide/", "meatus send --direct quay:charts reef:charts", "meatus send - archive:dumps/tide.sql < tide.sql"},
	"fetch":             {"meatus fetch archive:/srv/archive/1998 .", "meatus fetch tide-db:dump.sql - > tide.sql"},
	"mirror":            {"meatus mirror site survey-web:/srv/www --delete --dry-run", "meatus mirror site survey-web:/srv/www --watch"},
	"check-files":       {"meatus check-files tables archive:tables", "meatus check-files archive:/srv/archive --write archive.sha256"},
	"edit":              {"meatus edit tide-db:/srv/tide/README", "meatus edit quay:/etc/bay/landings.table --sudo"},
	"cargo":             {"meatus cargo list", "meatus cargo undo"},
	"cargo list":        {"meatus cargo list --json"},
	"cargo carry":       {"meatus cargo carry tables.plan"},
	"cargo resume":      {"meatus cargo resume"},
	"cargo undo":        {"meatus cargo undo", "meatus cargo undo 3rmr6itycya6"},
	"cargo hand":        {"meatus cargo hand reef:22 keeper \"$(cat reef.pub)\" 'tar -xf -' < charts.tar"},
	"cargo forget":      {"meatus cargo forget 3rmr6itycya6"},
	"key":               {"meatus key list", "meatus key show keys/tide.pem"},
	"key show":          {"meatus key show keys/tide.pem", "meatus key show keys/tide.pem --json"},
	"key list":          {"meatus key list", "meatus key list --json"},
	"key find":          {"meatus key find SHA256:BZkpR3lwFLwnIcfr9zNnDfwO1uUYgGQmnD1tjVCJqYw", "meatus key find --at gauge-1"},
	"key mend":          {"meatus key mend keys/tide.pem"},
	"key make":          {"meatus key make keys/tide-2.pem", "meatus key make keys/tide-2.pem --no-passphrase"},
	"key wrap":          {"meatus key wrap keys/tide.pem --container pkcs8"},
	"key public":        {"meatus key public keys/tide.pem"},
	"key split":         {"meatus key split ~/Downloads/keys.zip", "meatus key split both.pem keys"},
	"key adopt":         {"meatus key adopt ~/Downloads/tide.pem"},
	"key rename":        {"meatus key rename keys/tide.pem tide-old.pem"},
	"key retire":        {"meatus key retire keys/tide-old.pem"},
	"key unseal":        {"meatus key unseal keys/tide.pem < sealed.txt"},
	"key bind":          {"meatus key bind keys/gauge.pem --host 'gauge-*' --stay 1h"},
	"key install":       {"meatus key install keys/tide.pem tide-db"},
	"key rotate":        {"meatus key rotate keys/tide.pem keys/tide-2.pem", "meatus key rotate keys/tide.pem keys/tide-2.pem tide-db"},
	"key sweep":         {"meatus key sweep quay"},
	"ring":              {"meatus ring keys/gauge.pem -- make deploy", "eval \"$(meatus ring keys/gauge.pem &)\""},
	"lab":               {"meatus lab --dir bay"},
	"demo":              {"meatus demo", "meatus demo --dir bay"},
	"tour":              {"meatus tour", "meatus tour --anew"},
	"version":           {"meatus version"},
	"completion":        {"meatus completion bash > ~/.local/share/bash-completion/completions/meatus"},
}

// ownStatuses are the exit statuses of commands that have others than every command has.
var ownStatuses = map[string]string{
	"run":            "the command's own; 128 and the signal's number where one ended it",
	"each":           "3 where it could not be run somewhere, else the highest of the commands' own",
	"estate check":   "3 where something is wrong with the document",
	"estate expect":  "3 where something does not hold",
	"estate reach":   "3 where it does not get there",
	"estate ways":    "3 where there is no way",
	"check":          "3 where a gate is shut, or the sessions file has a mistake",
	"issuer explain": "3 where it is not allowed",
	"issuer policy":  "3 where it does not hold what is expected",
	"hold":           "3 where a door or a way cannot be opened",
	"key find":       "3 where no key fits",
	"ring":           "the command's own",
}

// statuses are told in every help.
const statuses = "0 done, 1 failed, 2 wrong use, 3 a gate is shut, 4 the workspace cannot be read, 130 interrupted"

// helpful gives every command its examples and exit statuses, and a help that says what it
// needs to.
func helpful(top *cobra.Command) {
	cobra.AddTemplateFunc("plainFlags", flagLines)
	cobra.AddTemplateFunc("statuses", func(c *cobra.Command) string {
		say := statuses
		if own := ownStatuses[pathOf(c)]; own != "" {
			say = own + ";\n             " + say
		}
		return say
	})
	top.SetUsageTemplate(usage)
	var each func(c *cobra.Command)
	each = func(c *cobra.Command) {
		if lines := examples[pathOf(c)]; len(lines) > 0 {
			c.Example = "  " + strings.Join(lines, "\n  ")
		}
		if c.RunE == nil && c.Run == nil { // it is for its own commands alone
			c.Args = cobra.ArbitraryArgs
			c.RunE = func(c *cobra.Command, args []string) error {
				if len(args) == 0 {
					return c.Help()
				}
				return &statusError{statusWrongUse, fmt.Errorf("there is no %q in %s; see %s --help", args[0], c.CommandPath(), c.CommandPath())}
			}
		}
		for _, sub := range c.Commands() {
			each(sub)
		}
	}
	each(top)
}

// helpWidth is how wide help is, in columns.
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
		l := line{typed: "    --" + f.Name}
		if f.Shorthand != "" {
			l.typed = "-" + f.Shorthand + ", --" + f.Name
		}
		value, does := pflag.UnquoteUsage(f)
		if l.does = does; f.Value.Type() != "bool" {
			l.typed += " " + metavar(value, f)
			if f.DefValue != "" && f.DefValue != "[]" && f.DefValue != "0" && f.DefValue != "0s" && f.DefValue != "-1" {
				l.does += " (else " + f.DefValue + ")"
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

// metavars stand for the values of flags, by their name, where their type says too little.
var metavars = map[string]string{
	"as-far-as": "DEPTH", "at": "SESSION", "bring": "TUNNEL", "command": "COMMAND", "container": "FORM", "dir": "FOLDER", "flows": "FORMAT", "format": "FORMAT",
	"from": "ADDRESSES", "host": "HOSTS", "kind": "KIND", "leader": "KEY", "lend": "KEY", "lend-to": "HOSTS", "metrics": "ADDRESS", "output": "FILE", "paper": "SIZE",
	"ready": "FILE", "roam": "TUNNEL", "session": "SESSION", "site": "SITE", "source": "NAME", "workspace": "FOLDER",
}

// metavar is what stands for a flag's value: what its usage has in backquotes, else a word for
// what it is.
func metavar(value string, f *pflag.Flag) string {
	kind := f.Value.Type()
	switch {
	case value != kind && value != "strings":
		return value
	case metavars[f.Name] != "":
		return metavars[f.Name]
	case kind == "duration":
		return "TIME"
	case kind == "int":
		return "NUMBER"
	case strings.HasPrefix(kind, "string"):
		return "TEXT"
	}
	return kind
}

// plainCompletion words the command that the library makes as the others are worded.
func plainCompletion(top *cobra.Command) {
	for _, c := range top.Commands() {
		if c.Name() != "completion" {
			continue
		}
		c.Short, c.Long = "print the completions of a shell", ""
		for _, shell := range c.Commands() {
			shell.Short, shell.Long = "print the completions of "+shell.Name(), ""
		}
	}
}

// pathOf is a command's path behind "meatus".
func pathOf(c *cobra.Command) string {
	_, path, _ := strings.Cut(c.CommandPath(), " ")
	return path
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

func versionCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "version",
		Short: "which Meatus this is, and what it was built of",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			info, ok := debug.ReadBuildInfo()
			if !ok {
				return fmt.Errorf("this program was built without saying what of")
			}
			version := info.Main.Version
			if version == "" || version == "(devel)" {
				version = "built from a folder"
			}
			fmt.Fprintf(cmd.OutOrStdout(), "meatus %s\n%s\n", version, info.GoVersion)
			for _, s := range info.Settings {
				if slices.Contains([]string{"vcs.revision", "vcs.time", "vcs.modified"}, s.Key) {
					fmt.Fprintf(cmd.OutOrStdout(), "%s %s\n", strings.TrimPrefix(s.Key, "vcs."), s.Value)
				}
			}
			return nil
		},
	}
}
