package issuer

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"meatus/core/atomicfile"
	"meatus/core/policy"
	"meatus/core/record"
	"meatus/core/sanitize"
	"meatus/core/store"
	"meatus/core/words"
)

// Trial is a policy compared with the active one, and tested against the expectations of both.
type Trial struct {
	Policy   *policy.Policy
	File     string
	Compared bool // another file than the active one
	Changes  []policy.Change
	Idle     []policy.Idle // lines that apply to nobody
	Expected int           // the number of expectations
	Fails    error         // those that failed, a line each; nil for none
	Unread   error         // why the active policy cannot be read, so that everything counts as a change

	active   string
	machines []policy.Machine
}

// Try reads the policy in file and tests it. Active is the path of the active policy, which file can be. The errors are
// mistakes in the policy or in its expectations.
func Try(file, active string, machines []policy.Machine) (*Trial, error) {
	rules, err := policy.Read(file)
	if err != nil {
		return nil, err
	}
	t := &Trial{Policy: rules, File: file, Compared: file != active, active: active, machines: machines}
	if err := t.expect(); err != nil {
		return nil, err
	}
	if unfit := rules.Unfit(policy.Issuer); len(unfit) > 0 {
		return nil, unfit
	}
	t.Idle = rules.Idle(machines)
	if t.Compared {
		before, err := policy.Read(active)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			t.Unread = err
		}
		t.Changes = rules.Compare(before, machines)
	}
	return t, nil
}

// expect tests the expectations beside the file and beside the active policy, in whose place the file would come.
func (t *Trial) expect() error {
	files := []string{t.File}
	if t.Compared {
		files = append(files, t.active)
	}
	for _, beside := range files {
		expected, err := policy.ReadExpectations(beside)
		if err != nil {
			return err
		}
		t.Expected += expected.Len()
		t.Fails = errors.Join(t.Fails, expected.Judge(t.Policy, func(name string) (policy.Machine, bool) { return MachineNamed(t.machines, name) }))
	}
	return nil
}

// Activate puts the policy in the place of the active one, as it was tested, and writes that to the record.
func (t *Trial) Activate(ctx context.Context, s *store.Leases) error {
	text, err := os.ReadFile(t.File)
	if err != nil {
		return err
	}
	if again, err := policy.Parse(filepath.Base(t.File), text); err != nil || len(again.Compare(t.Policy, t.machines)) > 0 {
		return fmt.Errorf("%s changed while it was tested; test it again", sanitize.Name(t.File))
	}
	if err := atomicfile.Put(t.active, text); err != nil {
		return err
	}
	return s.Append(ctx, record.Done{What: "policy", Issuer: "this host", Why: fmt.Sprintf("another policy holds, SHA-256 %x, %s for people", sha256.Sum256(text), words.Count(len(t.Changes), "change"))})
}

// MachineNamed is the machine of a name or an instance id. ok is false for one that does not trust the issuer: nothing but
// its name is known then.
func MachineNamed(all []policy.Machine, name string) (m policy.Machine, ok bool) {
	for _, m := range all {
		if m.Name == name || m.Instance == name && name != "" {
			return m, true
		}
	}
	return policy.Machine{Name: name}, false
}
