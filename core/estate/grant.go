package estate

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/gofrs/flock"
	"github.com/gophercloud/gophercloud/v2"
	"github.com/gophercloud/gophercloud/v2/openstack/networking/v2/extensions/security/rules"

	"meatus/core/sanitize"
	"meatus/core/statefile"
)

// Grant is a rule that stands for a time. It is written down before the source is asked for it, and until it is
// known to be gone: whatever becomes of the program, the next one takes it back.
type Grant struct {
	Mark    string    `json:"mark"` // in the rule's description, by which it is found
	Source  string    `json:"source"`
	Group   string    `json:"group"` // the id
	Called  string    `json:"called"`
	Rule    Rule      `json:"rule"`
	Session string    `json:"session"` // for which it is
	Began   time.Time `json:"began"`
	Until   time.Time `json:"until"`
	ID      string    `json:"id"`               // of the rule, "" where the source did not say so yet
	Tried   time.Time `json:"tried,omitzero"`   // when it was last tried to take it back in vain
	Failed  string    `json:"failed,omitempty"` // why that failed

	file string
}

const (
	// MostGranted is how long a rule can be granted at most.
	MostGranted = 24 * time.Hour
	// granting is how long asking a source for a rule, or to take it back, may take.
	granting = 20 * time.Second
)

func grants(dir string) string { return filepath.Join(dir, "state", "estate", "granted") }

// Granted are the rules that stand for a time, those that end first before the others. err tells of what is
// written down and cannot be read.
func Granted(dir string) (all []Grant, err error) {
	files, _ := filepath.Glob(filepath.Join(grants(dir), "*.json")) // the pattern is well formed
	for _, file := range files {
		var g Grant
		if bad := statefile.Peek(file, &g); bad != nil {
			err = errors.Join(err, fmt.Errorf("%s: %w; see at the source whether a rule described as meatus stands, then move the file away", file, bad))
			continue
		}
		if g.Mark == "" { // it went while it was read
			continue
		}
		g.file = file
		all = append(all, g)
	}
	slices.SortStableFunc(all, func(a, b Grant) int { return cmp.Or(a.Until.Compare(b.Until), strings.Compare(a.Mark, b.Mark)) })
	return all, err
}

// Due tells whether it is time to take the rule back. A clock that stands before the beginning was set back: how
// long the rule stands already is not known then, and it is due.
func (g Grant) Due(now time.Time) bool {
	return !now.Before(g.Until) || now.Before(g.Began.Add(-clockSlack))
}

// clockSlack is by how much two programs' clocks may differ.
const clockSlack = time.Minute

// note is the description of the rule at the source, by which others see what it is.
func (g Grant) note() string {
	return "meatus " + g.Mark + ", until " + g.Until.UTC().Format(time.RFC3339)
}

// Sentence is the rule in words, with its group.
func (g Grant) Sentence() string { return g.Called + ": " + g.Rule.Sentence(g.Rule.Group) }

// Standing says that a source has the rule already, of whom it is and until when where its description says so.
type Standing struct{ Note string }

func (s *Standing) Error() string {
	if s.Note == "" {
		return "the rule is there already, of somebody else: it stays when you are done"
	}
	return "the rule is there already, of somebody else (" + s.Note + "): when they are done it may go"
}

// Grant asks a source for a rule that stands for a time. It is written down before; where the source does not
// answer it stays written down, since the rule may be there. It fails with [Standing] where the source has it
// already.
func (s *Source) Grant(ctx context.Context, g Grant) (Grant, error) {
	if g.Until.Sub(g.Began) > MostGranted || !g.Until.After(g.Began) {
		return g, fmt.Errorf("a rule stands for a day at most, not for %s", g.Until.Sub(g.Began))
	}
	mark := make([]byte, 6)
	_, _ = rand.Read(mark) // it never fails
	g.Mark, g.Source = hex.EncodeToString(mark), s.Name
	g.file = filepath.Join(grants(s.Dir), s.Name+"-"+g.Mark+".json")
	if err := os.MkdirAll(grants(s.Dir), 0o700); err != nil {
		return g, fmt.Errorf("writing down the rule: %w; nothing was asked for", err)
	}
	if err := g.write(); err != nil {
		return g, fmt.Errorf("%w; nothing was asked for", err)
	}
	ctx, cancel := context.WithTimeout(ctx, granting)
	defer cancel()
	id, err := s.AddRule(ctx, g.Group, g.Rule, g.note())
	var standing *Standing
	switch {
	case errors.As(err, &standing), errors.Is(err, ErrNoActs), refused(err):
		g.forget()
		return g, err
	case err != nil: // it may be there all the same
		g.Failed = sanitize.Line(err.Error(), 200)
		return g, errors.Join(fmt.Errorf("whether the rule is there is not known: %w; it is taken back where it is", err), g.end(time.Now()))
	}
	g.ID = id
	return g, g.write()
}

// end has the grant be due now.
func (g Grant) end(now time.Time) error {
	g.Until = now
	return g.write()
}

func (g Grant) write() error {
	var file Grant
	if err := statefile.Change(g.file, &file, func() { file = g }); err != nil {
		return fmt.Errorf("writing down the rule: %w", err)
	}
	return nil
}

func (g Grant) forget() {
	_ = os.Remove(g.file) // what stays is taken back again, which does nothing
	_ = os.Remove(filepath.Join(filepath.Dir(g.file), "."+filepath.Base(g.file)+".lock"))
}

// TakeBack takes a granted rule back, and is done where it is gone already. Where it fails that is written down,
// and the rule stays one to be taken back.
func (s *Source) TakeBack(ctx context.Context, g Grant) error {
	lock := flock.New(g.file + ".lock")
	if held, err := lock.TryLock(); err != nil || !held {
		return nil // another program does it
	}
	defer func() {
		_ = lock.Close() // nobody waits for it
		_ = os.Remove(g.file + ".lock")
	}()
	if _, err := os.Stat(g.file); err != nil {
		return nil // another program did it
	}
	ctx, cancel := context.WithTimeout(ctx, granting)
	defer cancel()
	err := s.takeBack(ctx, g)
	if err == nil {
		g.forget()
		return nil
	}
	g.Tried, g.Failed = time.Now(), sanitize.Line(err.Error(), 200)
	return errors.Join(err, g.write())
}

// takeBack drops the rules of the grant's group that bear its mark, whatever is written down of their ids: so
// nothing else goes, whoever changed that file.
func (s *Source) takeBack(ctx context.Context, g Grant) error {
	c, err := s.dialled(ctx)
	if err != nil {
		return err
	}
	var ids []string
	err = each(ctx, rules.List(c.network, rules.ListOpts{SecGroupID: g.Group}), rules.ExtractRules, func(r rules.SecGroupRule) {
		if strings.HasPrefix(r.Description, "meatus "+g.Mark+",") {
			ids = append(ids, r.ID)
		}
	})
	if err != nil {
		return told(err)
	}
	for _, id := range ids {
		if err := s.DropRule(ctx, id); err != nil {
			return err
		}
	}
	return nil
}

// refused tells whether a service has answered that it will not do what it was asked.
func refused(err error) bool {
	var r *Refused
	return errors.As(err, &r)
}

// Refused is a service's answer that it will not do what it was asked.
type Refused struct{ Why error }

func (r *Refused) Error() string { return r.Why.Error() }

func (r *Refused) Unwrap() error { return r.Why }

// turnedDown is an error of a request that changes something: [Refused] where the service answered that it did not.
func turnedDown(err error) error {
	var code gophercloud.ErrUnexpectedResponseCode
	if errors.As(err, &code) && code.Actual >= 400 && code.Actual < 500 {
		return &Refused{told(err)}
	}
	return told(err)
}

// AddRule adds a rule to a group of the source, with a note beside it, and returns its id. It fails with
// [Standing] where the group has it.
func (s *Source) AddRule(ctx context.Context, group string, r Rule, note string) (id string, err error) {
	c, err := s.dialled(ctx)
	if err != nil {
		return "", err
	}
	options := rules.CreateOpts{
		Direction: rules.DirEgress, EtherType: rules.EtherType4, SecGroupID: group, Description: note, RemoteGroupID: r.Group,
	}
	if r.Inbound {
		options.Direction = rules.DirIngress
	}
	if r.Family == 6 {
		options.EtherType = rules.EtherType6
	}
	if r.CIDR.IsValid() && r.Group == "" {
		options.RemoteIPPrefix = r.CIDR.Masked().String()
		if r.CIDR.Addr().Is6() {
			options.EtherType = rules.EtherType6
		}
	}
	if p := r.Proto(); p != "any" {
		options.Protocol = rules.RuleProtocol(p)
		if p != "icmp" && p != "icmpv6" && !(r.From == 0 && r.To == 65535) {
			options.PortRangeMin, options.PortRangeMax = int(r.From), int(r.To)
		}
	}
	made, err := rules.Create(ctx, c.network, options).Extract()
	switch {
	case gophercloud.ResponseCodeIs(err, http.StatusConflict):
		return "", &Standing{s.noteOf(ctx, group, r)}
	case err != nil:
		return "", turnedDown(err)
	}
	return text(made.ID), nil
}

// DropRule takes a rule away by its id; one that is gone already is.
func (s *Source) DropRule(ctx context.Context, id string) error {
	c, err := s.dialled(ctx)
	if err != nil {
		return err
	}
	err = rules.Delete(ctx, c.network, id).ExtractErr()
	if err == nil || gophercloud.ResponseCodeIs(err, http.StatusNotFound) {
		return nil
	}
	return turnedDown(err)
}

// RuleID is the id of a group's rule that does the same as one, "" for none.
func (s *Source) RuleID(ctx context.Context, group string, r Rule) (id string, err error) {
	id, _, err = s.ruleAt(ctx, group, r)
	return id, err
}

// noteOf is what the description of a group's rule says, "" where that is not known.
func (s *Source) noteOf(ctx context.Context, group string, r Rule) string {
	_, note, _ := s.ruleAt(ctx, group, r) // where it cannot be asked it is not known
	return note
}

func (s *Source) ruleAt(ctx context.Context, group string, r Rule) (id, note string, err error) {
	c, err := s.dialled(ctx)
	if err != nil {
		return "", "", err
	}
	err = each(ctx, rules.List(c.network, rules.ListOpts{SecGroupID: group}), rules.ExtractRules, func(is rules.SecGroupRule) {
		if ruleOf(is.Direction, is.EtherType, is.Protocol, is.PortRangeMin, is.PortRangeMax, is.RemoteIPPrefix, is.RemoteGroupID).Same(r) {
			id, note = is.ID, text(is.Description)
		}
	})
	if err != nil {
		return "", "", told(err)
	}
	return id, note, nil
}
