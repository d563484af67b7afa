package action

import (
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"meatus/tui/theme"
)

// Action is one row of a table: keys, words, when it applies, what it does.
type Action struct {
	key.Binding
	Do   func(tea.KeyPressMsg) tea.Cmd
	Rank Rank
	// Purpose is what it is grouped under in the help.
	Purpose Purpose
	// Synonyms are words that people may look for it by in the finder, besides its own.
	Synonyms string
	// All says that it is about the place as a whole and not about what is chosen.
	All bool

	when  func() bool // always where nil
	why   string      // it does not apply where when is false
	shows func() bool // whether it belongs to the foot now, always where nil
}

// Rank says where an action is shown.
type Rank uint8

// The ranks.
const (
	AtFoot   Rank = iota // at the foot as far as there is room, in the help and the finder
	InHelp               // in the help and the finder
	Movement             // in the help alone: a move of the cursor
	Hidden               // nowhere: another key of an action, or a part of a movement
)

// Purpose is what a person wants who looks for an action.
type Purpose uint8

// The purposes, in the order of the help.
const (
	General Purpose = iota
	Connect
	Fix
	Forward
	Files
	Keys
	Sessions
	Instances
	Rules
	Several
	View
	purposes
)

var purposeNames = [...]string{"", "connect", "check and fix", "port forwards", "files", "keys and agent", "sessions", "instances", "firewall rules", "several at once", "view"}

func (p Purpose) String() string { return purposeNames[p] }

// On makes an action: its keys parted by blanks, its words, and what it does.
func On(keys, words string, do func() tea.Cmd) Action {
	if do == nil { // it is shown, and done by the list
		return Pressed(keys, words, nil)
	}
	return Pressed(keys, words, func(tea.KeyPressMsg) tea.Cmd { return do() })
}

// Pressed is [On] for what has to know which key was pressed.
func Pressed(keys, words string, do func(tea.KeyPressMsg) tea.Cmd) Action {
	all := strings.Fields(keys)
	return Action{Binding: key.NewBinding(key.WithKeys(all...), key.WithHelp(shown(all), words)), Do: do}
}

// If has an action apply only when a condition holds; why says in a few words why it does not.
func (a Action) If(when func() bool, why string) Action {
	a.when, a.why = when, why
	return a
}

// Suits has an action stand at the foot only when a condition holds; it can be done whether or
// not it does.
func (a Action) Suits(when func() bool) Action {
	a.shows = when
	return a
}

// As has an action shown with other text for its keys.
func (a Action) As(keys string) Action {
	a.SetHelp(keys, a.Help().Desc)
	return a
}

// For gives an action a purpose.
func (a Action) For(p Purpose) Action {
	a.Purpose = p
	return a
}

// Ranked gives an action a rank.
func (a Action) Ranked(r Rank) Action {
	a.Rank = r
	return a
}

// Also gives an action words that people may look for it by.
func (a Action) Also(synonyms string) Action {
	a.Synonyms = synonyms
	return a
}

// Whole says that an action is about the place as a whole.
func (a Action) Whole() Action {
	a.All = true
	return a
}

// Applies tells whether the action can be done now.
func (a Action) Applies() bool { return a.when == nil || a.when() }

// WhyNot says why the action cannot be done now, "" where it can.
func (a Action) WhyNot() string {
	if a.Applies() {
		return ""
	}
	return a.why
}

// Hint is the action as it is shown.
func (a Action) Hint() theme.Hint { return theme.Hint{Key: a.Help().Key, Does: a.Help().Desc} }

var arrows = map[string]string{"up": "↑", "down": "↓", "left": "←", "right": "→", "pgdown": "pgdn"}

// shown is how keys are shown: the first of them, or a pair of arrows.
func shown(keys []string) string {
	if len(keys) == 0 {
		return ""
	}
	text := keys[0]
	if a, ok := arrows[text]; ok {
		text = a
		for _, k := range keys[1:] {
			text += arrows[k]
		}
	}
	return text
}

// Table is what can be done.
type Table []Action

// Do does what a key does, and tells whether it does anything.
func (t Table) Do(msg tea.KeyPressMsg) (tea.Cmd, bool) {
	for _, a := range t {
		if a.Do != nil && key.Matches(msg, a.Binding) && a.Applies() {
			return a.Do(msg), true
		}
	}
	return nil, false
}

// WhyNot says why a key does nothing now, "" where it never does anything or does something.
func (t Table) WhyNot(msg tea.KeyPressMsg) (why string) {
	for _, a := range t {
		if a.Do != nil && key.Matches(msg, a.Binding) {
			if a.Applies() {
				return ""
			}
			if why == "" && a.why != "" {
				why = a.Help().Desc + ": " + a.why
			}
		}
	}
	return why
}

// Foot are the hints of what applies now and belongs to the foot.
func (t Table) Foot() []theme.Hint {
	var hints []theme.Hint
	for _, a := range t {
		if a.Rank == AtFoot && a.Applies() && (a.shows == nil || a.shows()) {
			hints = append(hints, a.Hint())
		}
	}
	return hints
}

// Group is the hints of actions with one purpose.
type Group struct {
	Name  string // of the purpose, "" for those without one
	Hints []theme.Hint
}

// Help are the hints of everything that is not hidden, whether or not it applies, by purposes.
func (t Table) Help() []Group {
	var groups []Group
	for p := range purposes {
		var hints []theme.Hint
		for _, a := range t {
			if a.Purpose == p && a.Rank != Hidden {
				hints = append(hints, a.Hint())
			}
		}
		if len(hints) > 0 {
			groups = append(groups, Group{p.String(), hints})
		}
	}
	return groups
}

// Actions are what the finder offers: everything that does something and is no movement.
func (t Table) Actions() []Action {
	var all []Action
	for _, a := range t {
		if a.Rank <= InHelp && a.Do != nil {
			all = append(all, a)
		}
	}
	return all
}
