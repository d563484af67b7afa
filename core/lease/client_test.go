package lease_test

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"io"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/gate"
	"meatus/core/lease"
	"meatus/core/line"
	"meatus/core/route"
)

// played is an issuer that tells whatever it likes for what it is asked.
func played(tell func(w lease.Want) string) *lease.Client {
	return &lease.Client{At: func(_ context.Context, _ route.Route, ask line.Message) (io.ReadCloser, error) {
		of, err := lease.ReadQuestion(ask.(line.OfIssuer))
		want, ok := of.(lease.Want)
		if err != nil || !ok {
			return nil, errors.New("nothing is wanted")
		}
		return io.NopCloser(strings.NewReader(tell(want))), nil
	}}
}

func hop() route.Hop {
	return route.Hop{Name: "reef", Credentials: route.Credentials{User: "keeper", Lease: &route.Lease{Issuer: "bay", Machine: "reef"}}}
}

func TestIssuersThatTellNonsense(t *testing.T) {
	ca := signer(t)
	granted := func(change func(*lease.Terms), swap ssh.PublicKey) func(lease.Want) string {
		return func(w lease.Want) string {
			wire, _ := base64.StdEncoding.DecodeString(w.Key)
			key, err := ssh.ParsePublicKey(wire)
			if err != nil {
				t.Fatal(err)
			}
			if swap != nil {
				key = swap
			}
			cert, err := lease.Sign(key, terms(change), ca)
			if err != nil {
				t.Fatal(err)
			}
			text, _ := json.Marshal(lease.State{Certificate: base64.StdEncoding.EncodeToString(cert.Marshal()), Seconds: 60, Rule: "rule \x1b[2Jx"})
			return string(text) + "\n"
		}
	}
	same := func(text string) func(lease.Want) string { return func(lease.Want) string { return text } }
	for name, c := range map[string]struct {
		tell func(lease.Want) string
		say  string
	}{
		"nothing":            {same(""), "gave no answer"},
		"no JSON":            {same("SSH-2.0-x\n"), "cannot be read"},
		"half a line":        {same("{\"waits\":[\"runa\"]}\n{\"cert"), "cannot be read"},
		"a line without end": {same(strings.Repeat("x", 1<<20)), "gave no answer"},
		"no certificate":     {same("{\"certificate\":\"AAAA\"}\n"), "is not taken"},
		"another machine":    {granted(func(x *lease.Terms) { x.Machine = "tide-db" }, nil), "it is not for keeper@reef"},
		"another login":      {granted(func(x *lease.Terms) { x.Login = "root" }, nil), "it is not for keeper@reef"},
		"another key":        {granted(nil, signer(t).PublicKey()), "it is for another key"},
		"for ever":           {granted(func(x *lease.Terms) { x.Ends = time.Now().AddDate(1, 0, 0) }, nil), "longer than a lease may be"},
		"ended":              {granted(func(x *lease.Terms) { x.Ends = time.Now().Add(-time.Second) }, nil), "has ended already"},
	} {
		held, err := played(c.tell).Get(t.Context(), hop(), "", nil)
		if err == nil || !strings.Contains(err.Error(), c.say) {
			t.Errorf("%s: %+v %v", name, held, err)
		}
	}
	client := played(granted(nil, nil))
	held, err := client.Get(t.Context(), hop(), "", nil)
	if err != nil || strings.Contains(held.Rule, "\x1b") || held.Life != time.Minute || len(client.Held()) != 1 {
		t.Errorf("%+v %v", held, err)
	}
	var no *lease.Refused
	if _, err := played(same("{\"refused\":\"no\\u001b[2J\",\"could\":\"x\\u0007\",\"wants_reason\":true}\n")).Get(t.Context(), hop(), "", nil); !errors.As(err, &no) || strings.ContainsAny(no.Say+no.Could, "\x1b\x07") || !no.Reason {
		t.Errorf("%v", err)
	}
	// One that never answers is waited for as long as whoever asks wants.
	silent := &lease.Client{At: func(ctx context.Context, _ route.Route, _ line.Message) (io.ReadCloser, error) {
		r, w := io.Pipe()
		context.AfterFunc(ctx, func() { w.Close() })
		return r, nil
	}}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := silent.Get(ctx, hop(), "", nil); !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
}

func TestGatesByWhatAnIssuerTold(t *testing.T) {
	c := &lease.Client{}
	if _, ok := c.LeaseGate(hop()); ok {
		t.Error("something is known that nobody told")
	}
	rights := []lease.Right{{Machine: "reef", Login: "keeper", Now: true, Says: "always", Rule: "rule x"}, {Machine: "reef", Login: "ops-*", Now: true, Agreed: true, Says: "with a yes"}, {Machine: "reef", Login: "late", Says: "on sat"}, {Machine: "reef", Login: "root", Denied: true, Says: "line 3 denies it"}}
	if !c.Remember("bay", rights) || c.Remember("bay", rights) {
		t.Error("what is new is told as the same, or the same as new")
	}
	for login, want := range map[string]struct {
		verdict gate.Verdict
		say     string
	}{
		"keeper": {gate.Open, "by rule x"},
		"ops-1":  {gate.Ajar, "a second person has to agree"},
		"late":   {gate.Shut, "says not now: on sat"},
		"root":   {gate.Shut, "says no: line 3 denies it"},
		"nobody": {gate.Shut, "lets you log in nowhere as nobody at reef"},
	} {
		h := hop()
		h.User = login
		if g, ok := c.LeaseGate(h); !ok || g.Verdict != want.verdict || !strings.Contains(g.Seen+g.Reason, want.say) {
			t.Errorf("%s: %+v", login, g)
		}
	}
}
