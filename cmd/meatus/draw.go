package main

import (
	"bytes"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"meatus/core/draw"
	"meatus/core/whole"
	"meatus/core/workspace"
)

func drawCommand(open opener) *cobra.Command {
	var out, site string
	var private bool
	c := &cobra.Command{
		Use:   "draw [SESSION...] -o FILE",
		Short: "draw the map of routes as SVG or PDF: of all sessions, a site's, or those named",
		Long: `draw makes a map of routes to hand on: hops, addresses, logins, keys by name and
fingerprint, tunnels with their direction, and the verdicts that this machine alone
can give, now. The ending of FILE says whether it is SVG or PDF. --private leaves
addresses, logins and fingerprints out.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := open()
			if err != nil {
				return err
			}
			names, title := args, strings.Join(args, ", ")
			if len(names) == 0 {
				names, title = w.Book.Names(), filepath.Base(w.Dir)
			}
			if site != "" {
				names, title = nil, "site "+site
				for _, s := range w.Book.Sessions {
					if s.Site.V == site {
						names = append(names, s.Name)
					}
				}
				if len(names) == 0 {
					return &statusError{statusWrongUse, fmt.Errorf("no session stands in a site %q", site)}
				}
			}
			return drawMap(w, names, title, out, private)
		},
	}
	c.Flags().StringVarP(&out, "output", "o", "", "the file to write, .svg or .pdf")
	c.Flags().StringVar(&site, "site", "", "the sessions of a site")
	c.Flags().BoolVar(&private, "private", false, "leave addresses, logins and fingerprints out")
	c.MarkFlagRequired("output")
	return c
}

// drawMap writes the map of sessions to a file.
func drawMap(w *workspace.Workspace, names []string, title, out string, private bool) error {
	m, err := w.Map(names, title, time.Now())
	if err != nil {
		return &statusError{statusWrongUse, err}
	}
	m.Private = private
	var text bytes.Buffer
	if err := m.Write(&text, draw.Format(strings.TrimPrefix(filepath.Ext(out), "."))); err != nil {
		return &statusError{statusWrongUse, err}
	}
	return whole.Write(out, text.Bytes())
}
