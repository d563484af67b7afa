package prompt

import (
	"meatus/core/step"
	"strings"
	"testing"
)

const print1, print2 = "SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA", "SHA256:BBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBA"

func TestAnIdentityIsGoodForItsHopAlone(t *testing.T) {
	asked := func(hop string, hops int, print string) step.IdentityQuestion {
		return step.IdentityQuestion{Place: step.Place{Hop: hop}, Hops: hops, SHA256: print}
	}
	i := &Identities{of: map[string][]string{}}
	for _, value := range []string{"quay=" + print1, "tide-db=" + print2} {
		if err := i.Set(value); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct {
		q    step.IdentityQuestion
		want bool
	}{
		{asked("quay", 2, print1), true},
		{asked("tide-db", 2, print2), true},
		{asked("tide-db", 2, print1), false}, // the bastion leads back to itself
		{asked("quay", 1, print2), false},
		{asked("other", 1, print1), false},
	} {
		if got := i.accepts(c.q); got != c.want {
			t.Errorf("%s of %d shows %s: %v", c.q.Hop, c.q.Hops, c.q.SHA256, got)
		}
	}
	alone := &Identities{}
	if err := alone.Set(print1); err != nil {
		t.Fatal(err)
	}
	if !alone.accepts(asked("quay", 1, print1)) || alone.accepts(asked("quay", 2, print1)) || alone.accepts(asked("tide-db", 2, print1)) {
		t.Error("one without a hop is for a route of one hop")
	}
	if (*Identities)(nil).accepts(asked("quay", 1, print1)) {
		t.Error("without the flag something is accepted")
	}
}

func TestAnIdentityThatIsNoneIsRefusedAtOnce(t *testing.T) {
	for value, say := range map[string]string{
		"": "no fingerprint", "yes": "no fingerprint", "SHA256:x": "no whole fingerprint", "quay=SHA256:": "no whole fingerprint",
		"quay=MD5:00": "no fingerprint", "=" + print1: "name of a session", "a b=" + print1: "name of a session", "quay=" + print1 + "AA": "no whole fingerprint",
	} {
		if err := (&Identities{of: map[string][]string{}}).Set(value); err == nil || !strings.Contains(err.Error(), say) {
			t.Errorf("%q: %v", value, err)
		}
	}
}
