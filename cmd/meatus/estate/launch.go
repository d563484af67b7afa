package estate

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/cmd/meatus/prompt"
	"meatus/core/book"
	"meatus/core/engine"
	"meatus/core/estate"
	"meatus/core/sanitize"
	"meatus/core/work"
	"meatus/core/workspace"
)

// actingSource is the estate that instances are launched and changed at.
func actingSource(w *workspace.Workspace, name string) (book.EstateSource, *estate.Kept, error) {
	e, kept, err := w.ActingSource(name)
	return e, kept, chooseSource(err)
}

// chooseSource says how an estate is chosen, where one has to be.
func chooseSource(err error) error {
	if errors.Is(err, workspace.ErrSeveral) {
		err = command.Fail(command.WrongUse, fmt.Errorf("%w with --source", err))
	}
	return err
}

// launchFlags are what "meatus estate launch" is told.
type launchFlags struct {
	source, like, name, image, size, network, keyPair, firstBoot, from string
	groups, tags                                                       []string
	count                                                              int
	yes, dry                                                           bool
}

func launchCommand(open live.Opener) *command.Command {
	var f launchFlags
	c := &command.Command{
		Use:      "launch",
		Summary:  "launch instances and add a session for each",
		JSON:     "print each step as a line of JSON; with --dry-run the preview",
		Examples: []string{"meatus estate launch --like gauge-1 --name gauge-9", "meatus estate launch --like quay --from 203.0.113.77 --dry-run"},
		Details: `Give an instance to copy with --like, or an image, size, network, groups and key pair ("meatus
estate offer" lists them). A preview is printed first, and asked about; --yes skips the
question, --dry-run prints the preview only.

--from ADDRESS allows port 22 from that address or range only, by a new group, instead of
groups that allow everybody.`,
		Args: cobra.NoArgs,
		Run:  func(cmd *command.Call, _ []string) error { return launch(cmd, open, f) },
	}
	flags := c.Flags()
	flags.StringVar(&f.source, "source", "", "the estate, if there are several")
	flags.StringVar(&f.like, "like", "", "copy the values of this instance: a name, an id or a query")
	flags.StringVar(&f.name, "name", "", "the name; numbered for several instances")
	flags.StringVar(&f.image, "image", "", "the image")
	flags.StringVar(&f.size, "size", "", "the size")
	flags.StringVar(&f.network, "network", "", "the network")
	flags.StringArrayVar(&f.groups, "group", nil, "a security group (repeatable)")
	flags.StringVar(&f.keyPair, "key-pair", "", "the key pair for logins")
	flags.StringArrayVar(&f.tags, "tag", nil, "a tag (repeatable)")
	flags.StringVar(&f.firstBoot, "first-boot", "", "a file with the first-boot script")
	flags.StringVar(&f.from, "from", "", "allow port 22 from this address or range only")
	flags.IntVar(&f.count, "count", 1, "the number of instances")
	flags.BoolVar(&f.yes, "yes", false, "do not ask")
	flags.BoolVar(&f.dry, "dry-run", false, "print the preview and launch nothing")
	c.Value("source", "NAME", nil)
	c.Value("like", "INSTANCE", command.Instances)
	c.Value("image", "IMAGE", nil)
	c.Value("size", "SIZE", nil)
	c.Value("network", "NETWORK", nil)
	c.Value("group", "GROUP", nil)
	c.Value("key-pair", "KEY-PAIR", nil)
	c.Value("tag", "NAME=VALUE", nil)
	c.Value("first-boot", "FILE", nil)
	c.Value("from", "ADDRESS", nil)
	return c
}

// of makes the launch that is asked for.
func (f launchFlags) of(w *workspace.Workspace, kept *estate.Kept, o *estate.Offer) (estate.Launch, error) {
	l := o.Fresh()
	if f.like != "" {
		m, why := estate.NewIndex(w.Estates).One(f.like)
		if why != "" {
			return l, errors.New(why)
		}
		if m.Kept.Source != kept.Source {
			return l, fmt.Errorf("%s is of estate %s, and not of %s", sanitize.Line(f.like, 40), m.Kept.Source, kept.Source)
		}
		l = o.Like(&m.Kept.Snapshot, m.Instance)
	}
	for value, into := range map[string]*string{f.name: &l.Name, f.image: &l.Image, f.size: &l.Size, f.network: &l.Network, f.keyPair: &l.KeyPair} {
		if value != "" {
			*into = value
		}
	}
	l.Count = f.count
	if f.groups != nil {
		l.Groups = f.groups
	}
	for _, tag := range f.tags {
		name, value, ok := strings.Cut(tag, "=")
		if !ok {
			return l, command.Fail(command.WrongUse, fmt.Errorf("--tag %s: write NAME=VALUE", sanitize.Line(tag, 40)))
		}
		l.Tags[name] = value
	}
	if f.firstBoot != "" {
		text, err := os.ReadFile(f.firstBoot)
		if err != nil {
			return l, fmt.Errorf("the first-boot text: %w", err)
		}
		l.FirstBoot = string(text)
	}
	if f.from != "" {
		from, err := estate.ParseFrom(f.from)
		if err != nil {
			return l, command.Fail(command.WrongUse, fmt.Errorf("--from: %w", err))
		}
		l = l.Alone(o, from)
	}
	return l, nil
}

func launch(cmd *command.Call, open live.Opener, f launchFlags) error {
	_, w, err := readAnew(cmd, open, f.source, false)
	if err != nil {
		return err
	}
	source, kept, err := actingSource(w, f.source)
	if err != nil {
		return err
	}
	cutShort(cmd, w, source.Name, kept)
	s := &estate.Source{Dir: w.Dir, EstateSource: source}
	o, err := s.Offer(cmd.Context(), &kept.Snapshot)
	if err != nil {
		return err
	}
	l, err := f.of(w, kept, o)
	if err != nil {
		return err
	}
	r := l.Review(o, w.KeyOf)
	switch {
	case len(r.Wrong) > 0:
		return fmt.Errorf("it can not be launched: %s", strings.Join(r.Wrong, "; "))
	case f.dry && cmd.JSON:
		return command.JSON(cmd.OutOrStdout(), map[string][]string{"does": r.Does, "ajar": append([]string{}, r.Ajar...)})
	case f.dry:
		return sayReview(cmd.OutOrStdout(), r)
	}
	if err := sayReview(cmd.ErrOrStderr(), r); err != nil {
		return err
	}
	if err := prompt.Sure(cmd, "launch "+l.Name, f.yes); err != nil {
		return err
	}
	e, err := open.Engine(cmd, w, nil, engine.Options{}, nil)
	if err != nil {
		return err
	}
	defer e.Close()
	job := &work.Launch{Tools: e.Tools(), Source: source, Launch: l, Offer: o, Read: func() {
		if err := e.ReadEstate(context.WithoutCancel(cmd.Context()), source); err != nil { // it reads for a minute at most
			fmt.Fprintln(cmd.ErrOrStderr(), "meatus: "+err.Error())
		}
	}}
	return e.Do(cmd, job, func(s work.Step) { live.Step(cmd, s) })
}

// cutShort tells of launches that were cut short.
func cutShort(cmd *command.Call, w *workspace.Workspace, source string, kept *estate.Kept) {
	for _, left := range estate.CutShort(w.Dir, source) {
		fmt.Fprintf(cmd.ErrOrStderr(), "meatus: estate %s: %s\n", source, left.Told(&kept.Snapshot))
		left.End()
	}
}

// sayReview says what would become of a launch, what is better thought about last.
func sayReview(out io.Writer, r estate.Review) error {
	var err error
	for _, say := range r.Does {
		_, err = fmt.Fprintf(out, "  %s\n", say)
	}
	for _, say := range r.Ajar {
		_, err = fmt.Fprintf(out, "! %s\n", say)
	}
	if r.Alone {
		_, err = fmt.Fprintln(out, "  --from ADDRESS lets one address alone in its place")
	}
	return err
}

// offered is what instances can be launched from, as "meatus estate offer --json" has it.
type offered struct {
	Images   []estate.Image   `json:"images"`
	Sizes    []estate.Size    `json:"sizes"`
	Networks []estate.Network `json:"networks"`
	Groups   []string         `json:"groups"`
	KeyPairs []estate.KeyPair `json:"key_pairs"`
}

func offer(open live.Opener) *command.Command {
	var source string
	c := &command.Command{
		Use:      "offer",
		Summary:  "list what an instance can be launched with",
		Examples: []string{"meatus estate offer"},
		JSON:     "print JSON",
		Args:     cobra.NoArgs,
		Run: func(cmd *command.Call, _ []string) error {
			_, w, err := readAnew(cmd, open, source, false)
			if err != nil {
				return err
			}
			at, kept, err := actingSource(w, source)
			if err != nil {
				return err
			}
			o, err := (&estate.Source{Dir: w.Dir, EstateSource: at}).Offer(cmd.Context(), &kept.Snapshot)
			if err != nil {
				return err
			}
			all := offered{append([]estate.Image{}, o.Images...), append([]estate.Size{}, o.Sizes...), append([]estate.Network{}, o.Networks...), []string{}, append([]estate.KeyPair{}, o.KeyPairs...)}
			for _, g := range o.Groups {
				all.Groups = append(all.Groups, g.Name)
			}
			table := &command.Table{}
			for _, m := range all.Images {
				table.Row("image", m.Name, m.UsualLogin())
			}
			for _, z := range all.Sizes {
				table.Row("size", z.Name, strings.TrimPrefix(z.String(), z.Name+", "))
			}
			for _, n := range all.Networks {
				table.Row("network", n.Name, prefixes(n.CIDRs))
			}
			for _, g := range all.Groups {
				table.Row("group", g)
			}
			for _, p := range all.KeyPairs {
				table.Row("key pair", p.Name, p.Fingerprint)
			}
			return cmd.AnswerTable(all, table)
		},
	}
	c.Flags().StringVar(&source, "source", "", "the estate, if there are several")
	c.Value("source", "NAME", nil)
	return c
}

func prefixes(all []netip.Prefix) string {
	var say []string
	for _, p := range all {
		say = append(say, p.String())
	}
	return strings.Join(say, ", ")
}
