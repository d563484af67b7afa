package action

import (
	tea "charm.land/bubbletea/v2"

	"meatus/core/prefs"
	"meatus/tui/theme"
)

// Keymap says which keys a person has chosen for the letters. The zero value is what is built
// in; tables know those alone.
type Keymap struct {
	meant map[string]string // by what is pressed: the letter that is meant by it, "" for none
	shown map[string]string // by the letter: what is pressed for it
}

// NewKeymap returns the keymap of chosen keys, by the verbs of [prefs.Letters].
func NewKeymap(chosen map[string]string) *Keymap {
	k := &Keymap{meant: map[string]string{}, shown: map[string]string{}}
	for _, l := range prefs.Letters {
		if key, ok := chosen[l.Verb]; ok && key != l.Key {
			k.shown[l.Key] = key
			if _, taken := k.meant[l.Key]; !taken {
				k.meant[l.Key] = ""
			}
			k.meant[key] = l.Key
		}
	}
	return k
}

// Meant is the key press that tables know, for what was pressed.
func (k *Keymap) Meant(msg tea.KeyPressMsg) tea.KeyPressMsg {
	letter, moved := k.meant[msg.String()]
	switch {
	case !moved:
		return msg
	case letter == "space":
		return tea.KeyPressMsg{Code: tea.KeySpace, Text: " "}
	case letter == "":
		return tea.KeyPressMsg{}
	}
	return tea.KeyPressMsg{Code: []rune(letter)[0], Text: letter}
}

// Shown is what is pressed for a letter.
func (k *Keymap) Shown(letter string) string {
	if key, ok := k.shown[letter]; ok {
		return key
	}
	return letter
}

// Hints are hints with what is pressed.
func (k *Keymap) Hints(hints []theme.Hint) []theme.Hint {
	for i := range hints {
		hints[i].Key = k.Shown(hints[i].Key)
	}
	return hints
}

// Press is what is pressed for the letter of a verb of [prefs.Letters].
func (k *Keymap) Press(verb string) string {
	for _, l := range prefs.Letters {
		if l.Verb == verb {
			return k.Shown(l.Key)
		}
	}
	return ""
}
