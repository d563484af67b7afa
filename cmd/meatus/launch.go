package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"meatus/core/book"
	"meatus/core/engine"
	"meatus/core/estate"
	"meatus/core/sanitize"
	"meatus/core/work"
	"meatus/core/workspace"
)

// actingSource is the source that something is launched at: the one of a name, else the only one that
// something can be done at.
func actingSource(w *workspace.Workspace, name string) (book.EstateSource, *estate.Kept, error) {
	var found []book.EstateSource
	for _, e := range w.Book.Estates {
		if (name == "" || e.Name == name) && e.Broken == nil && (&estate.Source{EstateSource: e}).Acts() {
			found = append(found, e)
		}
	}
	switch {
	case len(found) == 0 && name != "":
		return book.EstateSource{}, nil, fmt.Errorf("nothing can be launched at %s: %w", sanitize.Line(name, 40), estate.ErrNoActs)
	case len(found) == 0:
		return book.EstateSource{}, nil, fmt.Errorf("nothing can be launched: %s names no estate of kind openstack", w.SessionsPath())
	case len(found) > 1:
		return book.EstateSource{}, nil, &statusError{statusWrongUse, fmt.Errorf("there are several estates; pass --source %s, or another", found[0].Name)}
	}
	for k := range w.Estates {
		if w.Estates[k].Source == found[0].Name {
			return found[0], &w.Estates[k], nil
		}
	}
	return found[0], &estate.Kept{Source: found[0].Name}, nil
}

// launchFlags are what "meatus estate launch" is told.
type launchFlags struct {
	source, like, name, image, size, network, keyPair, firstBoot, from string
	groups, tags                                                       []string
	count                                                              int
	yes, dry, asJSON                                                   bool
}

func estateLaunch(open opener) *cobra.Command {
	var f launchFlags
	c := &cobra.Command{
		Use:   "launch",
		Short: "launch instances, wait until they run, and have a session for each",
		Long: `Launch instances: like one there is, or by image, size, network, groups and key pair
("meatus estate offer" lists what there is). What would become of it is said first, and
asked about; with --yes it is done without asking, and with --dry it is said alone.

--from ADDRESS lets that address alone, or a range, knock at port 22, by a group of its
own, in place of the groups that let everybody.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return launch(cmd, open, f) },
	}
	flags := c.Flags()
	flags.StringVar(&f.source, "source", "", "the estate, where there are several")
	flags.StringVar(&f.like, "like", "", "an instance to be like: its name, its id or a query")
	flags.StringVar(&f.name, "name", "", "what it is called; with numbers where there are several")
	flags.StringVar(&f.image, "image", "", "what it is made from")
	flags.StringVar(&f.size, "size", "", "how large it is")
	flags.StringVar(&f.network, "network", "", "where it has its address")
	flags.StringArrayVar(&f.groups, "group", nil, "a group of rules it is in; several times for several")
	flags.StringVar(&f.keyPair, "key-pair", "", "the key pair that lets in")
	flags.StringArrayVar(&f.tags, "tag", nil, "NAME=VALUE; several times for several")
	flags.StringVar(&f.firstBoot, "first-boot", "", "a file with what runs at its first boot")
	flags.StringVar(&f.from, "from", "", "the address, or the range, that alone may knock at port 22")
	flags.IntVar(&f.count, "count", 1, "how many")
	flags.BoolVar(&f.yes, "yes", false, "do it without asking")
	flags.BoolVar(&f.dry, "dry", false, "say what would become of it, and do nothing")
	flags.BoolVar(&f.asJSON, "json", false, "print each step as a line of JSON; with --dry the review")
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
			return l, &statusError{statusWrongUse, fmt.Errorf("--tag %s: write NAME=VALUE", sanitize.Line(tag, 40))}
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
			return l, &statusError{statusWrongUse, fmt.Errorf("--from: %w", err)}
		}
		l = l.Alone(o, from)
	}
	return l, nil
}

func launch(cmd *cobra.Command, open opener, f launchFlags) error {
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
	case f.dry && f.asJSON:
		return printJSON(cmd.OutOrStdout(), map[string][]string{"does": r.Does, "ajar": append([]string{}, r.Ajar...)})
	case f.dry:
		return sayReview(cmd.OutOrStdout(), r)
	}
	if err := sayReview(cmd.ErrOrStderr(), r); err != nil {
		return err
	}
	if err := sure(cmd, "launch "+l.Name, f.yes); err != nil {
		return err
	}
	e, err := open.engine(cmd, w, nil, engine.Options{}, nil)
	if err != nil {
		return err
	}
	defer e.Close()
	job := &work.Launch{Tools: e.Tools(), Source: source, Launch: l, Offer: o, Read: func() {
		if err := e.ReadEstate(context.WithoutCancel(cmd.Context()), source); err != nil { // it reads for a minute at most
			fmt.Fprintln(cmd.ErrOrStderr(), "meatus: "+err.Error())
		}
	}}
	return e.do(cmd, job, func(s work.Step) { sayStep(cmd.OutOrStdout(), f.asJSON, s) })
}

// cutShort tells of launches that were cut short.
func cutShort(cmd *cobra.Command, w *workspace.Workspace, source string, kept *estate.Kept) {
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

func estateOffer(open opener) *cobra.Command {
	var source string
	var asJSON bool
	c := &cobra.Command{
		Use:   "offer",
		Short: "what instances can be launched from: images, sizes, networks, groups, key pairs",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
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
			if asJSON {
				return printJSON(cmd.OutOrStdout(), all)
			}
			t := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 0, 2, ' ', 0)
			for _, m := range all.Images {
				fmt.Fprintf(t, "image\t%s\t%s\n", m.Name, m.UsualLogin())
			}
			for _, z := range all.Sizes {
				fmt.Fprintf(t, "size\t%s\t%s\n", z.Name, strings.TrimPrefix(z.String(), z.Name+", "))
			}
			for _, n := range all.Networks {
				fmt.Fprintf(t, "network\t%s\t%s\n", n.Name, prefixes(n.CIDRs))
			}
			for _, g := range all.Groups {
				fmt.Fprintf(t, "group\t%s\t\n", g)
			}
			for _, p := range all.KeyPairs {
				fmt.Fprintf(t, "key pair\t%s\t%s\n", p.Name, p.Fingerprint)
			}
			return t.Flush()
		},
	}
	c.Flags().StringVar(&source, "source", "", "the estate, where there are several")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

func prefixes(all []netip.Prefix) string {
	var say []string
	for _, p := range all {
		say = append(say, p.String())
	}
	return strings.Join(say, ", ")
}
