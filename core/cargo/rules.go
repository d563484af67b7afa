package cargo

import (
	"fmt"
	"strings"

	"meatus/core/cargo/ends"

	"github.com/bmatcuk/doublestar/v4"
)

// AsideFolder is the folder in a tree in which what is replaced or removed is kept for a time,
// and partPrefix how the names of files begin that are being written. Neither is ever moved.
const (
	AsideFolder = ".meatus-aside"
	partPrefix  = ends.PartPrefix
)

// Links says what becomes of symbolic links.
type Links string

// What becomes of them.
const (
	KeepLinks   Links = "keep"   // made as they are, where they lead to somewhere in the tree
	FollowLinks Links = "follow" // what they lead to is moved, where that stands in the tree
	LeaveLinks  Links = "leave"
)

// Over says what may be replaced.
type Over string

// What may be replaced.
const (
	OverOlder Over = "older" // what was written before that which comes
	OverAll   Over = "all"   // anything: also what is newer, and what is of another kind
	OverNone  Over = "none"
)

// Rules say what counts as the same, what is left out, and what wins.
type Rules struct {
	Content bool     `json:"content,omitempty"` // files are the same by their content, and not by size and time
	Links   Links    `json:"links,omitempty"`   // KeepLinks where ""
	Over    Over     `json:"over,omitempty"`    // OverOlder where ""
	Delete  bool     `json:"delete,omitempty"`  // what stands at the target alone is removed
	Owner   bool     `json:"owner,omitempty"`   // whose files are is kept
	Keys    bool     `json:"keys,omitempty"`    // private keys of this machine go to another one, too
	Exclude []string `json:"exclude,omitempty"`
	Include []string `json:"include,omitempty"` // files that fit none are left out, where there are any
}

// Check tells what is wrong with rules.
func (r Rules) Check() error {
	for _, p := range append(append([]string{}, r.Exclude...), r.Include...) {
		if strings.Trim(p, "/") == "" || !doublestar.ValidatePattern(p) {
			return fmt.Errorf("%q is no pattern: write it as *.log, cache/ or data/**/*.csv", p)
		}
	}
	switch r.Links {
	case "", KeepLinks, FollowLinks, LeaveLinks:
	default:
		return fmt.Errorf("links are kept, followed or left: %q is none of keep, follow, leave", r.Links)
	}
	switch r.Over {
	case "", OverOlder, OverAll, OverNone:
	default:
		return fmt.Errorf("what may be replaced is older, all or none, not %q", r.Over)
	}
	return nil
}

// ours tells whether a name is one that this program writes for itself.
func ours(base string) bool { return base == AsideFolder || strings.HasPrefix(base, partPrefix) }

// Out tells whether a path is left out.
func (r Rules) Out(name, base string, folder bool) bool {
	if ours(base) {
		return true
	}
	if matches(r.Exclude, name, base, folder) {
		return true
	}
	return !folder && len(r.Include) > 0 && name != "" && !matches(r.Include, name, base, false)
}

// matches tells whether a path fits one of the patterns. A pattern with a "/" before its end is
// for the path from the root, another for the name in any folder; one that ends with "/" fits
// folders alone.
func matches(patterns []string, name, base string, folder bool) bool {
	for _, p := range patterns {
		p, only := strings.CutSuffix(p, "/")
		if only && !folder {
			continue
		}
		of := base
		if strings.Contains(p, "/") {
			of, p = name, strings.TrimPrefix(p, "/")
		}
		if ok, _ := doublestar.Match(p, of); ok {
			return true
		}
	}
	return false
}
