package main

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"meatus/core/book"
	"meatus/core/estate"
	"meatus/core/walk"
	"meatus/core/workspace"
)

// A completer proposes words for an argument: what was given before it, and what begins it.
type completer func(w *workspace.Workspace, before []string, begins string) []string

func sessionNames(w *workspace.Workspace, before []string, _ string) []string {
	return slices.DeleteFunc(slices.Clone(w.Book.Names()), func(name string) bool { return slices.Contains(before, name) })
}

func keyPaths(w *workspace.Workspace, _ []string, _ string) []string {
	var paths []string
	for _, k := range w.Keys() {
		paths = append(paths, k.Path)
	}
	return paths
}

// settings proposes sessions, and the keys of their settings.
func settings(w *workspace.Workspace, before []string, begins string) []string {
	names := sessionNames(w, before, begins)
	if len(before) > 0 {
		for _, key := range book.Fields {
			names = append(names, key+"=")
		}
	}
	return names
}

// then completes the first argument by one completer and those behind it by another, which may
// be nil.
func then(first, rest completer) completer {
	return func(w *workspace.Workspace, before []string, begins string) []string {
		switch {
		case len(before) == 0:
			return first(w, before, begins)
		case rest != nil:
			return rest(w, before, begins)
		}
		return nil
	}
}

// completers are those of arguments, by the command's path behind "meatus".
var completers = map[string]completer{
	"check": sessionNames, "run": then(sessionNames, nil), "each": eachNames, "hold": sessionNames, "draw": sessionNames,
	"session set": settings, "session remove": sessionNames, "session show": then(sessionNames, nil), "session through": then(sessionNames, nil),
	"key show": then(keyPaths, nil), "key mend": then(keyPaths, nil), "key wrap": then(keyPaths, nil), "key public": then(keyPaths, nil),
	"key unseal": then(keyPaths, nil), "key bind": then(keyPaths, nil), "key rename": then(keyPaths, nil), "key retire": then(keyPaths, nil),
	"key install": then(keyPaths, sessionNames), "key rotate": keysThenSessions, "key sweep": then(sessionNames, nil), "ring": keyPaths,
	"trail": then(sessionNames, nil),
	"send":  placeNames, "fetch": placeNames, "mirror": placeNames, "edit": placeNames, "check-files": placeNames,
	"estate list": instances, "estate show": instances, "estate start": instances, "estate stop": instances, "estate restart": instances, "estate end": instances,
	"estate password": instances, "estate ways": instances, "estate reach": instances, "estate exposure": instances, "estate pairs send": then(keyPaths, nil),
}

// placeNames completes session names before a path. If none fits, the shell completes files.
func placeNames(w *workspace.Workspace, before []string, begins string) []string {
	names := slices.Clone(sessionNames(w, before, begins))
	for i := range names {
		names[i] += ":"
	}
	return names
}

// filesToo are the commands whose arguments may be local files.
var filesToo = map[string]bool{"send": true, "fetch": true, "mirror": true, "edit": true, "check-files": true}

// instances completes the last word of a query by what is known already.
func instances(w *workspace.Workspace, _ []string, begins string) []string {
	return estate.Complete(begins, w.Estates)
}

func keysThenSessions(w *workspace.Workspace, before []string, begins string) []string {
	if len(before) < 2 {
		return keyPaths(w, before, begins)
	}
	return sessionNames(w, before, begins)
}

// eachNames proposes sites and sessions.
func eachNames(w *workspace.Workspace, before []string, begins string) []string {
	return append(slices.Clone(w.Book.Sites()), sessionNames(w, before, begins)...)
}

// flagCompleters are those of flags, by name.
var flagCompleters = map[string]completer{
	"at":        sessionNames,
	"site":      func(w *workspace.Workspace, _ []string, _ string) []string { return w.Book.Sites() },
	"lend":      keyPaths,
	"like":      instances,
	"lend-to":   sessionNames,
	"as-far-as": func(*workspace.Workspace, []string, string) []string { return walk.DepthWords[:] },
	"format":    func(*workspace.Workspace, []string, string) []string { return []string{"csv", "json"} },
	"yes-identity": func(w *workspace.Workspace, _ []string, _ string) []string {
		var all []string
		for _, name := range w.Book.Names() {
			all = append(all, name+"=SHA256:")
		}
		return all
	},
}

// complete has a shell's completion know the workspace.
func complete(top *cobra.Command, open opener) {
	propose := func(by completer) func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		return func(cmd *cobra.Command, before []string, begins string) ([]string, cobra.ShellCompDirective) {
			w, err := open.kept() // completing asks no cloud
			if err != nil {
				return nil, cobra.ShellCompDirectiveDefault
			}
			var fit []string
			directive := cobra.ShellCompDirectiveNoFileComp
			for _, word := range by(w, before, begins) {
				if strings.HasPrefix(word, begins) {
					fit = append(fit, word)
				}
				if strings.HasSuffix(word, "=") || strings.HasSuffix(word, ":") {
					directive |= cobra.ShellCompDirectiveNoSpace
				}
			}
			if len(fit) == 0 && filesToo[cmd.Name()] {
				return nil, cobra.ShellCompDirectiveDefault
			}
			return fit, directive
		}
	}
	var each func(c *cobra.Command)
	each = func(c *cobra.Command) {
		if by := completers[pathOf(c)]; by != nil {
			c.ValidArgsFunction = propose(by)
		}
		for name, by := range flagCompleters {
			if c.LocalNonPersistentFlags().Lookup(name) != nil {
				c.RegisterFlagCompletionFunc(name, propose(by))
			}
		}
		for _, sub := range c.Commands() {
			each(sub)
		}
	}
	each(top)
}
