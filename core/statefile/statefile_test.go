package statefile

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"testing"
)

func TestADamagedFileIsPutAsideAndSaid(t *testing.T) {
	path := filepath.Join(t.TempDir(), "state", "marks.json")
	add := func(name string) error {
		var names []string
		return Change(path, &names, func() { names = append(names, name) })
	}
	if err := add("quay"); err != nil {
		t.Fatal(err)
	}
	const damage = `["quay", "tide-`
	if err := os.WriteFile(path, []byte(damage), 0o600); err != nil {
		t.Fatal(err)
	}
	err := add("spit")
	var damaged *Damaged
	if !errors.As(err, &damaged) {
		t.Fatalf("the damage is not said: %v", err)
	}
	if text, err := os.ReadFile(damaged.Aside); err != nil || string(text) != damage {
		t.Errorf("what was there is now %q, %v", text, err)
	}
	var names []string
	if err := Read(path, &names); err != nil || !slices.Equal(names, []string{"spit"}) {
		t.Errorf("the new file has %v, %v", names, err)
	}
}

func TestAMissingFileIsEmpty(t *testing.T) {
	names := []string{"as it was"}
	if err := Read(filepath.Join(t.TempDir(), "none.json"), &names); err != nil || len(names) != 1 {
		t.Errorf("%v, %v", names, err)
	}
}

func TestAFileThatCannotBeReadIsNotTouched(t *testing.T) {
	path := filepath.Join(t.TempDir(), "state.json")
	if err := os.Mkdir(path, 0o700); err != nil {
		t.Fatal(err)
	}
	var names []string
	if err := Change(path, &names, func() {}); err == nil {
		t.Error("a folder is taken for an empty file")
	}
}
