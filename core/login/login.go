package login

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/book"
	"meatus/core/custody"
	"meatus/core/gate"
	"meatus/core/keyfile"
	"meatus/core/route"
	"meatus/core/sanitize"
	"meatus/core/step"
)

// How much a server may ask: questions in one round, and rounds, those without a question
// counted (RFC 4256 section 3.2 allows any number).
const (
	maxQuestions = 16
	maxRounds    = 32
)

var errQuestions = errors.New("too many questions")

// tries is how often a wrong answer may be given.
const tries = 3

// loadKeys gets the signers for the hop and passes the key gate, which is shut where the
// hop names keys and none of them can be used.
func (h *handshake) loadKeys() error {
	leased, err := h.leaseSigner()
	if err != nil {
		return err
	}
	g := gate.Gate{Kind: gate.Key}
	if len(h.Hop.Keys) > 0 {
		h.Trying(gate.Key)
	}
	h.signers, err = h.c.Keys.Signers(h.Hop, h)
	if err != nil && len(leased) > 0 && h.failure == nil { // the lease is enough
		h.signers, err = nil, nil
	}
	h.signers = append(leased, h.signers...)
	switch {
	case h.failure != nil:
		return h.failure
	case err != nil:
		return h.give(h.unusable(err))
	case len(h.Hop.Keys) > 0:
		g.Verdict, g.Seen = gate.Open, strings.Join(sources(h.signers), ", ")
		g = h.Hop.KeysMeant(g)
	case h.Hop.Gateway != nil:
		g = route.GatewayKey(h.Hop, route.KeySheets{})
	case len(leased) > 0:
		g.Seen = "none named; the certificate is used instead"
	case len(h.signers) > 0:
		g.Seen = "none named; unlocked keys are offered"
	default:
		g.Seen = "none named"
	}
	h.Tell(g)
	h.Trying(gate.Login)
	return nil
}

// sources are the names of the key files that signers were made of.
func sources(signers []custody.Signer) []string {
	var names []string
	last := ""
	for _, s := range signers { // a key's certificate and the key itself come one behind the other
		if s.Source != "" && s.Source != last {
			names = append(names, sanitize.Name(s.Source))
		}
		last = s.Source
	}
	return names
}

// unusable words why none of a hop's keys can be used.
func (h *handshake) unusable(err error) *gate.Failure {
	seen := "no key"
	if len(h.Hop.Keys) > 0 {
		seen = sanitize.Name(h.Hop.Keys[0])
	}
	f := h.Fail(gate.Key, gate.KeyUnusable, seen, err.Error(), "name a private key file that can be read", err)
	var blocked *keyfile.Blocked
	var not *keyfile.NotAKey
	switch {
	case errors.As(err, &blocked):
		f.Why, f.Remedy.Say = blocked.Fault.Say, blocked.Fault.Mend
		if blocked.Fault.Mending {
			f.Remedy.Act, f.Remedy.Subject = gate.MendKey, blocked.Path
		}
	case errors.As(err, &not):
		f.Why, f.Remedy.Say = not.Say, not.Mend
	}
	return f
}

// Passphrase asks for the passphrase of a key of this login's. See [custody.Asking].
func (h *handshake) Passphrase(file *keyfile.File, try int) (pass []byte, err error) {
	err = h.ask(gate.Key, "the passphrase of "+sanitize.Name(file.Path), func(ctx context.Context) (err error) {
		pass, err = h.Asker.Passphrase(ctx, step.PassphraseQuestion{Place: h.Place(), Path: file.Path, Fingerprint: file.SHA256, Try: try})
		return err
	})
	return pass, err
}

// Deriving lets a passphrase be tried in peace: the time it takes is not the server's.
func (h *handshake) Deriving() (done func()) { return h.p.Pause() }

// GaveUp shuts the key gate when every passphrase was wrong.
func (h *handshake) GaveUp(file *keyfile.File) error {
	return h.give(h.Fail(gate.Key, gate.KeyUnusable, sanitize.Name(file.Path), fmt.Sprintf("%d wrong passphrases were given", custody.Tries), "find the right passphrase, or use another key", keyfile.ErrPassphrase))
}

// login chooses how to log in, step by step, as the server allows, and remembers
// what was offered, tried and answered.
type login struct {
	h        *handshake
	offered  []string // what the server would take, as last said
	keys     int      // how many keys were offered, one by two names twice
	offers   *offers  // the keys
	asked    bool     // a person was asked something
	rounds   int      // of questions
	accept   int      // how many steps the server has accepted
	tries    []Try
	accepted ssh.PublicKey // the last key it accepted, or nil
}

// Try is one way to log in that was tried.
type Try struct {
	What   string // "key tide.pem", "password", "questions"
	Print  string // of a key, its SHA-256 fingerprint
	Answer Answer

	certificate *ssh.Certificate // that was shown for the key, nil for none
}

// Answer is what a server answered to a try.
type Answer uint8

// The answers of a server.
const (
	Unanswered Answer = iota
	Declined
	OneMoreStep // it was accepted, and something more is wanted
	Accepted
)

var answerWords = [...]string{"not answered", "refused", "accepted, one more step", "accepted"}

func (a Answer) String() string { return answerWords[a] }

// Took tells whether the server took what was tried.
func (a Answer) Took() bool { return a >= OneMoreStep }

// maxKeys is how many keys are offered to a server. Most give up after six
// refusals and close the connection; one is left for another way.
const maxKeys = 5

// next is called by the library before each try after the first, which asks what
// there is.
func (g *login) next(ctx *ssh.ClientAuthContext) (method ssh.AuthMethod, err error) {
	err = g.h.contained(func() (err error) { method, err = g.choose(ctx); return err })
	return method, err
}

func (g *login) choose(ctx *ssh.ClientAuthContext) (ssh.AuthMethod, error) {
	if g.h.conn.Broken() { // the library takes a cut line for a refusal
		return nil, io.EOF
	}
	g.h.p.Renew()
	g.offered = ctx.AllowedMethods
	if g.offers == nil {
		g.offers = newOffers(g.h.conn, g.h.signers)
	}
	if !g.offers.asked() { // it has refused nothing
		g.tries, g.keys = g.tries[:len(g.tries)-1], g.keys-1
	}
	g.judge(len(ctx.PartialSuccessMethods) > g.accept)
	g.accept = len(ctx.PartialSuccessMethods)
	if g.h.failure != nil {
		return nil, g.h.failure
	}
	failed := func(method string) bool { return slices.Contains(ctx.TriedMethods, method) }
	can := func(method string) bool {
		if g.h.Hop.Alone != "" && g.accept == 0 { // a further step may be asked for
			return false
		}
		return slices.Contains(ctx.AllowedMethods, method) && !failed(method)
	}
	switch {
	case slices.Contains(ctx.AllowedMethods, "publickey") && g.offers.more() && g.keys < maxKeys:
		o := g.offers.next()
		g.keys++
		what := "key " + o.Name
		if o.as != "" {
			what += " by " + o.as
		}
		g.tries = append(g.tries, Try{What: what, Print: keyfile.Fingerprint(bare(o.PublicKey())), certificate: certificateOf(o.PublicKey())})
		g.accepted = o.PublicKey()
		return ssh.PublicKeys(o.signer()), nil
	case can("keyboard-interactive"):
		try := 0
		g.tries = append(g.tries, Try{What: "questions"})
		return ssh.RetryableAuthMethod(ssh.KeyboardInteractive(func(title, instruction string, questions []string, echos []bool) ([]string, error) {
			return g.answer(&try, title, instruction, questions, echos)
		}), tries), nil
	case can("password") && !(g.asked && failed("keyboard-interactive")):
		try := 0
		g.tries = append(g.tries, Try{What: "password"})
		return ssh.RetryableAuthMethod(ssh.PasswordCallback(func() (string, error) { return g.password(&try) }), tries), nil
	}
	return nil, g.h.give(g.refused())
}

// bare is the key that a certificate is for, or the key itself.
func bare(key ssh.PublicKey) ssh.PublicKey {
	if cert, ok := key.(*ssh.Certificate); ok {
		return cert.Key
	}
	return key
}

// certificateOf is the certificate that a key comes with, or nil.
func certificateOf(key ssh.PublicKey) *ssh.Certificate {
	cert, _ := key.(*ssh.Certificate)
	return cert
}

// certificateCauses are what a server may refuse a certificate for, "" where none was shown.
func (g *login) certificateCauses() string {
	for _, t := range g.tries {
		c := t.certificate
		if c == nil || t.Answer.Took() {
			continue
		}
		say := fmt.Sprintf("check the certificate of %s: it is valid from %s to %s by the clock here, which may differ from that machine's; one of its principals %s has to be allowed for %s there",
			sanitize.Line(strings.TrimPrefix(t.What, "key "), 60), time.Unix(int64(c.ValidAfter), 0).Local().Format("15:04:05"), validUntil(c), sanitize.Line(strings.Join(c.ValidPrincipals, ", "), 120), g.h.Hop.User)
		if from, limited := c.CriticalOptions["source-address"]; limited {
			say += fmt.Sprintf("; it is valid only from %s, and the machine sees the address of the hop before it", sanitize.Line(from, 60))
			if g.h.Before() == nil {
				say = strings.Replace(say, "sees the address of the hop before it", "may see another address", 1)
			}
		}
		return say + "; or the server does not trust the CA that signed it"
	}
	return ""
}

// validUntil is when a certificate ends, in words.
func validUntil(c *ssh.Certificate) string {
	if c.ValidBefore == ssh.CertTimeInfinity {
		return "no end"
	}
	return time.Unix(int64(c.ValidBefore), 0).Local().Format("15:04:05 on 2 Jan 2006")
}

// judge notes what became of the last try.
func (g *login) judge(step bool) {
	if len(g.tries) == 0 {
		return
	}
	last := &g.tries[len(g.tries)-1]
	last.Answer = Declined
	if step {
		last.Answer = OneMoreStep
	} else if last.Print != "" {
		g.accepted = nil
	}
}

// done notes that the last try let us in.
func (g *login) done() {
	if len(g.tries) > 0 {
		g.tries[len(g.tries)-1].Answer = Accepted
	}
}

func (g *login) summary() string {
	var by []string
	for _, t := range g.tries {
		if t.Answer.Took() {
			by = append(by, t.What)
		}
	}
	if len(by) == 0 {
		by = []string{"nothing asked"}
	}
	if g.h.Hop.Gateway != nil {
		if len(g.tries) == 0 {
			by = []string{"the certificate or token"}
		}
		return "known by " + strings.Join(by, " and ")
	}
	return fmt.Sprintf("%s, by %s", g.h.Hop.User, strings.Join(by, " and "))
}

func (g *login) answer(try *int, title, instruction string, questions []string, echos []bool) ([]string, error) {
	g.rounds++
	if len(questions) > maxQuestions || g.rounds > maxRounds {
		return nil, g.h.give(g.h.Fail(gate.Login, gate.NoKeyAccepted, "too many questions",
			fmt.Sprintf("%s asks %d questions in round %d; more than %d in %d rounds are not answered", g.h.Hop.Name, len(questions), g.rounds, maxQuestions, maxRounds),
			"such a server is broken or hostile: find out what runs there", errQuestions))
	}
	if len(questions) == 0 {
		return nil, nil
	}
	*try++
	q := step.ServerQuestions{Place: g.h.Place(), Title: sanitize.Line(title, 120), Instruction: sanitize.Text(instruction, 600), Try: *try, After: g.steps()}
	for i, text := range questions {
		q.Questions = append(q.Questions, step.Question{Text: sanitize.Line(text, 200), Echo: echos[i]})
	}
	return g.put(q)
}

// steps says what was accepted before a further step is asked for.
func (g *login) steps() string {
	if g.accept == 0 {
		return ""
	}
	var by []string
	for _, t := range g.tries {
		if t.Answer.Took() {
			by = append(by, t.What)
		}
	}
	return strings.Join(by, " and ")
}

func (g *login) password(try *int) (string, error) {
	*try++
	answers, err := g.put(step.ServerQuestions{Place: g.h.Place(), Password: true, Try: *try, Questions: []step.Question{{Text: "password"}}, After: g.steps()})
	if err != nil {
		return "", err
	}
	return answers[0], nil
}

func (g *login) put(q step.ServerQuestions) ([]string, error) {
	g.asked = true
	q.Banner = g.h.said()
	var answers []string
	what := "what the server asks"
	if q.Password {
		what = "a password"
	}
	err := g.h.ask(gate.Login, what, func(ctx context.Context) (err error) {
		answers, err = g.h.Asker.Answers(ctx, q)
		return err
	})
	if err == nil && len(answers) != len(q.Questions) {
		err = fmt.Errorf("%d answers to %d questions", len(answers), len(q.Questions))
	}
	if err == nil {
		return answers, nil
	}
	if f := g.h.failure; f != nil && f.Cause != gate.Unexpected {
		f.Detail = g.told() // the keys were refused before: that is worth knowing
	}
	return nil, err
}

// told lists what was tried in which order and what the answers were, what else
// the server would take, and what it said.
func (g *login) told() []string {
	var detail []string
	if no := g.h.lease.None; no != nil {
		detail = append(detail, "no lease: "+no.Why)
	}
	for i, t := range g.tries {
		answer := t.Answer.String()
		if t.Print != "" {
			answer = t.Print + ": " + answer
			t.What += ","
		} else {
			t.What += ":"
		}
		detail = append(detail, fmt.Sprintf("%d. %s %s", i+1, t.What, answer))
	}
	if left := g.left(); left > 0 && g.keys == maxKeys {
		detail = append(detail, fmt.Sprintf("%d more keys were not offered: servers disconnect after six refused keys", left))
	}
	if len(g.offered) > 0 {
		detail = append(detail, "the server accepts: "+sanitize.Line(strings.Join(g.offered, ", "), 120))
	}
	for line := range strings.Lines(g.h.said()) {
		detail = append(detail, "it says: "+strings.TrimRight(line, "\n"))
	}
	return detail
}

// left is how many keys were not offered.
func (g *login) left() int {
	if g.offers == nil {
		return 0
	}
	return g.offers.left()
}

// refused is the failure of a login with nothing left to try.
func (g *login) refused() *gate.Failure {
	h := g.h
	if h.Hop.Gateway != nil {
		return g.gatewayLogin()
	}
	f := h.Fail(gate.Login, gate.NoKeyAccepted, fmt.Sprintf("%s refused", h.Hop.User),
		fmt.Sprintf("%s accepts none of the offered keys for user %s", h.Hop.Name, h.Hop.User),
		g.causes(),
		&LoginRefused{Place: g.h.Place(), Version: g.h.conn.Software(), Banner: g.h.said(), Tries: g.tries, Offered: g.offered})
	f.Detail = g.told()
	f.Remedy.Act = gate.Choose
	switch {
	case g.accept > 0:
		f.Why = fmt.Sprintf("%s accepted %s and requires one more step, which is not possible here", h.Hop.Name, g.steps())
		f.Remedy = gate.Remedy{Say: "configure the session for one of the accepted methods"}
	case g.asked:
		f.Why = fmt.Sprintf("%s accepted no answer for user %s", h.Hop.Name, h.Hop.User)
	case len(g.h.signers) == 0:
		f.Why = fmt.Sprintf("the session %s names no key, and the server offers no other usable method", h.Hop.Name)
		f.Remedy.Say = "name a key in the session"
	}
	return f
}

// causes are what a refused login can come from, the likeliest first by what is known: whether
// that login got in there before, and by which key, and where its name comes from.
func (g *login) causes() string {
	h := g.h
	name := fmt.Sprintf("%s may not be a user there: try the usual user name of that machine's system", h.Hop.User)
	list := "the home folder or authorized keys there are writable by others, or the server reads another file: that machine's log says which"
	key := "the key is not authorized for that account: try another"
	if say := g.certificateCauses(); say != "" {
		return say + "; or " + list
	}
	if h.c.Logins != nil {
		if last, ok := h.c.Logins.Last(h.Hop.At().Host, h.Hop.Port, h.Hop.User); ok {
			when := last.When.Local().Format("2 Jan 2006")
			if !slices.ContainsFunc(g.tries, func(t Try) bool { return t.Print != "" && t.Print == last.Key }) && last.Key != "" {
				return fmt.Sprintf("another key is likely needed: this user logged in on %s with %s; or %s", when, last.Key, list)
			}
			return fmt.Sprintf("something changed there since the last login on %s: the key is no longer authorized, or %s", when, list)
		}
	}
	user := h.Hop.From("user")
	if user.Layer() == book.InSession && h.Hop.From("key").Layer() == book.InSession { // nothing of it works elsewhere
		return fmt.Sprintf("most likely first: %s; %s; %s", key, name, list)
	}
	origin := "the account here"
	if user.Layer() != book.BuiltIn {
		origin = user.String()
	}
	return fmt.Sprintf("the user name is probably wrong: %s comes from %s; try the usual user name of that machine's system; or %s; or %s", h.Hop.User, origin, key, list)
}

// LoginRefused is what is known of a server that let us in by no way. It is the
// cause of a failure with [gate.NoKeyAccepted].
type LoginRefused struct {
	step.Place
	Version string // what the server's software calls itself, cleaned
	Banner  string // what it said before, cleaned
	Tries   []Try
	Offered []string // what it would take
}

func (r *LoginRefused) Error() string {
	return fmt.Sprintf("%s refused the login of %s", r.Hop, r.User)
}
