package mend

import (
	_ "embed" // the table
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"meatus/core/book"
)

//go:embed logins.toml
var builtIn []byte

// LoginsFile is the name of a person's own table in a workspace.
const LoginsFile = "logins.toml"

// Family is a family of systems and the logins its machines have at first.
type Family struct {
	Name   string   `toml:"name"`
	Says   []string `toml:"says"`   // words of its version line or banner; "" fits all
	Logins []string `toml:"logins"` // the likeliest first
}

// Families reads the table of first logins: a person's own in the workspace's
// folder, then the one built in. Where the own table cannot be read the built-in
// one is returned with the error.
func Families(dir string) ([]Family, error) {
	var own []Family
	text, err := os.ReadFile(filepath.Join(dir, LoginsFile))
	if err == nil {
		own, err = parseFamilies(LoginsFile, text)
	} else if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	table, bad := parseFamilies("the built-in table", builtIn)
	return append(own, table...), errors.Join(err, bad)
}

func parseFamilies(named string, text []byte) ([]Family, error) {
	var table struct {
		Family []Family `toml:"family"`
	}
	if err := toml.NewDecoder(strings.NewReader(string(text))).DisallowUnknownFields().Decode(&table); err != nil {
		return nil, fmt.Errorf("%s: %w; it is not used", named, err)
	}
	for _, f := range table.Family {
		for _, login := range f.Logins {
			if !book.ValidUser(login) {
				return nil, fmt.Errorf("%s: %q is no login name; it is not used", named, login)
			}
		}
	}
	return table.Family, nil
}

// Likely lists the logins that are likely for a machine by what it says of
// itself, the likeliest first, each with the family it is usual for.
func Likely(families []Family, version, banner string) (logins, why []string) {
	said := strings.ToLower(version + "\n" + banner)
	for _, f := range families {
		if !slices.ContainsFunc(f.Says, func(word string) bool { return strings.Contains(said, strings.ToLower(word)) }) {
			continue
		}
		for _, login := range f.Logins {
			if !slices.Contains(logins, login) {
				logins, why = append(logins, login), append(why, f.Name)
			}
		}
	}
	return logins, why
}
