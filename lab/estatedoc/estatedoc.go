// Package estatedoc gives the workspace of a test an estate that is a document in it.
package estatedoc

import (
	"os"
	"path/filepath"
	"testing"
)

const file = "bay.json"

// Table is the part of a sessions file that names the document as the estate "bay", read again so often: a time, or
// "off" for when it is asked alone.
func Table(every string) string {
	return "[estate.bay]\nkind = \"document\"\nfile = \"" + file + "\"\nevery = \"" + every + "\"\n"
}

// Write puts a text in the place of the document of a workspace, by one rename, as whoever makes such documents does.
func Write(t testing.TB, workspace, text string) {
	t.Helper()
	path := filepath.Join(workspace, file)
	if err := os.WriteFile(path+".new", []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(path+".new", path); err != nil {
		t.Fatal(err)
	}
}
