package command

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"meatus/core/book"
	"meatus/core/estate"
	"meatus/core/workspace"
)

// Completer proposes words for an argument: after those given before it, with what begins it.
type Completer func(w *workspace.Workspace, before []string, begins string) []string

// Opener opens the workspace that completions know.
type Opener func() (*workspace.Workspace, error)

// Sessions proposes the sessions that are not among the arguments yet.
func Sessions(w *workspace.Workspace, before []string, _ string) []string {
	return slices.DeleteFunc(slices.Clone(w.Book.Names()), func(name string) bool { return slices.Contains(before, name) })
}

// SessionsAndSites proposes sites and sessions.
func SessionsAndSites(w *workspace.Workspace, before []string, begins string) []string {
	return append(slices.Clone(w.Book.Sites()), Sessions(w, before, begins)...)
}

// SessionsAndInstances proposes sessions, and instances where no session fits.
func SessionsAndInstances(w *workspace.Workspace, before []string, begins string) []string {
	names := Sessions(w, before, begins)
	if slices.ContainsFunc(names, func(name string) bool { return strings.HasPrefix(name, begins) }) {
		return names
	}
	return Instances(w, before, begins)
}

// Sites proposes sites.
func Sites(w *workspace.Workspace, _ []string, _ string) []string { return w.Book.Sites() }

// Keys proposes the paths of the keys that are known.
func Keys(w *workspace.Workspace, _ []string, _ string) []string {
	var paths []string
	for _, k := range w.Keys() {
		paths = append(paths, k.Path)
	}
	return paths
}

// Settings proposes sessions, and the keys of their settings.
func Settings(w *workspace.Workspace, before []string, begins string) []string {
	names := Sessions(w, before, begins)
	if len(before) > 0 {
		for _, key := range book.Fields {
			names = append(names, key+"=")
		}
	}
	return names
}

// Places proposes session names before a path.
func Places(w *workspace.Workspace, before []string, begins string) []string {
	names := slices.Clone(Sessions(w, before, begins))
	for i := range names {
		names[i] += ":"
	}
	return names
}

// Instances completes the last word of an estate query from the stored list of instances.
func Instances(w *workspace.Workspace, _ []string, begins string) []string {
	return estate.Complete(begins, w.Estates)
}

// Words proposes fixed words.
func Words(all ...string) Completer {
	return func(*workspace.Workspace, []string, string) []string { return all }
}

// First completes the first n arguments by one completer and those behind them by another, which may be nil.
func First(n int, first, rest Completer) Completer {
	return func(w *workspace.Workspace, before []string, begins string) []string {
		switch {
		case len(before) < n:
			return first(w, before, begins)
		case rest != nil:
			return rest(w, before, begins)
		}
		return nil
	}
}

// propose makes the library's completion of a completer. With files, a shell completes files where nothing else fits.
func propose(open Opener, by Completer, files bool) func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return func(_ *cobra.Command, before []string, begins string) ([]string, cobra.ShellCompDirective) {
		w, err := open() // completing asks no cloud
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
		if len(fit) == 0 && files {
			return nil, cobra.ShellCompDirectiveDefault
		}
		return fit, directive
	}
}
