package install

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"meatus/core/keyfile"
	"meatus/core/route"
	"meatus/core/walk"
)

// Step is one step of a rotation, as it is done.
type Step struct {
	Session string
	Say     string
	Err     error // why it could not be done
}

// Rotation puts a new key in the place of an old one at the ends of routes. Every
// key file is as it was after it; the sessions file is the caller's, in Rename.
type Rotation struct {
	Walker Walker
	Routes []route.Route
	Old    *keyfile.File
	New    *keyfile.File
	// Rename has the sessions use the new key from then on. It is called when the
	// new key is proven everywhere, before the old one leaves any list.
	Rename func() error
	Tell   func(Step)
}

// Run rotates: first the new key goes into every list, with the options that the
// old one has there, and is proven by a login with it alone; then the sessions are
// renamed; then the old key goes out of every list, over the login with the new
// one, which is proven once more. It stops at the first that fails. Whenever it
// does, every account is opened by a key that its session names or by the old one.
func (r Rotation) Run(ctx context.Context) error {
	if r.Old.Public == nil || r.New.Public == nil {
		return errors.New("the public key is not known; write it first with meatus key public")
	}
	if r.Old.SHA256 == r.New.SHA256 {
		return errors.New("the new key is the old one")
	}
	for _, way := range r.Routes {
		if err := r.bring(ctx, way); err != nil {
			return r.stop(way, err, "the old key is still authorized everywhere, and the sessions still use it")
		}
	}
	if err := r.Rename(); err != nil {
		return fmt.Errorf("the sessions could not be changed: %w; both keys open every account", err)
	}
	for _, way := range r.Routes {
		if err := r.takeOut(ctx, way); err != nil {
			return r.stop(way, err, "the sessions use the new key, which opens every account")
		}
	}
	return nil
}

func (r Rotation) stop(way route.Route, err error, stand string) error {
	r.Tell(Step{Session: way.Session, Say: "stopped", Err: err})
	return fmt.Errorf("stopped at %s: %w; %s", way.Session, err, stand)
}

// bring puts the new key into an account's list and proves it.
func (r Rotation) bring(ctx context.Context, way route.Route) error {
	p, err := r.Walker.Walk(ctx, way)
	if err != nil {
		return err
	}
	report, err := add(ctx, p, r.New.Public, func(list []byte) string {
		options, _ := optionsOf(list, r.Old.Public)
		return line(options, r.New.Public, r.New.Comment)
	})
	p.Close()
	for _, d := range report.Doubts {
		r.Tell(Step{Session: way.Session, Say: d})
	}
	if err != nil {
		return err
	}
	say := "the new key is in the list"
	if report.Already {
		say = "the new key stood in the list already"
	}
	r.Tell(Step{Session: way.Session, Say: say})
	if p, err = Prove(ctx, r.Walker, way, r.New); err != nil {
		return err
	}
	p.Close()
	r.Tell(Step{Session: way.Session, Say: "tested: a login with only the new key works"})
	return nil
}

// takeOut takes the old key out of an account's list, and puts the list back as it
// was where the new key does not get in after that.
func (r Rotation) takeOut(ctx context.Context, way route.Route) error {
	p, err := Prove(ctx, r.Walker, way, r.New)
	if err != nil {
		return err
	}
	defer p.Close()
	was, now, err := edit(ctx, p, func(text []byte) []byte {
		if !holds(text, r.Old.Public) {
			return nil
		}
		return without(text, r.Old.Public)
	}, func(text []byte) bool { return !holds(text, r.Old.Public) })
	if err != nil {
		return err
	}
	if was.state.Same(now.state) {
		r.Tell(Step{Session: way.Session, Say: "the old key did not stand in the list"})
		return nil
	}
	again, err := Prove(ctx, r.Walker, way, r.New)
	if err != nil {
		back := func([]byte) []byte { return was.state.Text }
		if _, _, berr := edit(ctx, p, back, func([]byte) bool { return true }); berr != nil {
			return fmt.Errorf("without the old key the new one is refused (%w), and the list could not be restored: %w", err, berr)
		}
		return fmt.Errorf("without the old key the new one is refused, so the list was restored: %w", err)
	}
	again.Close()
	r.Tell(Step{Session: way.Session, Say: "the old key is out of the list, and the new one gets in"})
	return nil
}

func sameAccount(a, b route.Route) bool {
	x, y := a.Target(), b.Target()
	return x.User == y.User && x.Port == y.Port && strings.EqualFold(x.Host, y.Host)
}

// Accounts drops the routes that end at an account another one of them ends at.
func Accounts(routes []route.Route) []route.Route {
	var one []route.Route
	for _, r := range routes {
		if !slices.ContainsFunc(one, func(o route.Route) bool { return sameAccount(o, r) }) {
			one = append(one, r)
		}
	}
	return one
}

// Sharing are those of all that are not among chosen and end at the account of one
// that is: whoever takes a key out of the list there takes it from them too.
func Sharing(chosen, all []route.Route) []route.Route {
	var also []route.Route
	for _, r := range all {
		same := func(o route.Route) bool { return o.Session == r.Session }
		if !slices.ContainsFunc(chosen, same) && slices.ContainsFunc(chosen, func(o route.Route) bool { return sameAccount(o, r) }) {
			also = append(also, r)
		}
	}
	return also
}

var _ Walker = (*walk.Walker)(nil)
