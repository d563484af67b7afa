package lease

import (
	"encoding/json"

	"meatus/core/line"
)

// Question is one that an issuer answers with values of type R, none for [Nothing]. docs/leases.md has its text on the
// wire.
type Question[R any] interface {
	wire() wire
	answers(R)
}

// Nothing is what follows a question that has no answer but a yes.
type Nothing struct{}

// Answer answers an asking: "agree", "decline" or "withdraw".
type Answer struct {
	ID  string `json:"id"`
	Say string `json:"say"`
}

// Would asks for a person's rights at a machine after its enrolment, as one login first.
type Would struct {
	Machine Machine `json:"machine"`
	Login   string  `json:"login"`
}

// The other questions.
type (
	Rights    struct{}              // what one may
	Leases    struct{}              // which leases one has
	Waits     struct{}              // what waits for one's yes, and what of one's own waits
	Introduce struct{}              // what the issuer tells of itself
	Enrol     struct{ Machine }     // a machine trusts the issuer now
	Renew     struct{ Machine }     // a machine's own key is certified anew, for the same hosts
	Carried   struct{ Machine }     // a machine knows these signers and stops now
	Leave     struct{ Name string } // a machine trusts the issuer no more
	Logins    struct{ Used []Used } // serials that machines' logs tell
)

func (Want) answers(State)      {}
func (Rights) answers(Right)    {}
func (Leases) answers(Lease)    {}
func (Waits) answers(Waiting)   {}
func (Answer) answers(Nothing)  {}
func (Introduce) answers(About) {}
func (Would) answers(Right)     {}
func (Enrol) answers(Enrolled)  {}
func (Renew) answers(Enrolled)  {}
func (Carried) answers(Nothing) {}
func (Leave) answers(Nothing)   {}
func (Logins) answers(Nothing)  {}

// wire is a question's text. One of its fields is set.
type wire struct {
	Want    *Want    `json:"want,omitempty"`
	May     bool     `json:"may,omitempty"`
	Held    bool     `json:"held,omitempty"`
	Waiting bool     `json:"waiting,omitempty"`
	Answer  *Answer  `json:"answer,omitempty"`
	About   bool     `json:"about,omitempty"`
	Would   *Would   `json:"would,omitempty"`
	Enrol   *Machine `json:"enrol,omitempty"`
	Renew   *Machine `json:"renew,omitempty"`
	Carried *Machine `json:"carried,omitempty"`
	Leave   string   `json:"leave,omitempty"`
	Used    []Used   `json:"used,omitempty"`
}

func (q Want) wire() wire    { return wire{Want: &q} }
func (Rights) wire() wire    { return wire{May: true} }
func (Leases) wire() wire    { return wire{Held: true} }
func (Waits) wire() wire     { return wire{Waiting: true} }
func (q Answer) wire() wire  { return wire{Answer: &q} }
func (Introduce) wire() wire { return wire{About: true} }
func (q Would) wire() wire   { return wire{Would: &q} }
func (q Enrol) wire() wire   { return wire{Enrol: &q.Machine} }
func (q Renew) wire() wire   { return wire{Renew: &q.Machine} }
func (q Carried) wire() wire { return wire{Carried: &q.Machine} }
func (q Leave) wire() wire   { return wire{Leave: q.Name} }
func (q Logins) wire() wire  { return wire{Used: q.Used} }

// Asked writes a question to an issuer.
func Asked[R any](q Question[R]) (line.Message, error) {
	of, err := json.Marshal(q.wire())
	return line.OfIssuer{Of: of}, err
}

// ReadQuestion reads what an issuer is asked: a [Want], or one of the other questions. It fails with [line.ErrSeveral] and
// [line.ErrNothing], and where it is no JSON object.
func ReadQuestion(m line.OfIssuer) (any, error) {
	var w wire
	if err := json.Unmarshal(m.Of, &w); err != nil {
		return nil, err
	}
	var all []any
	add := func(is bool, q func() any) {
		if is {
			all = append(all, q())
		}
	}
	add(w.Want != nil, func() any { return *w.Want })
	add(w.May, func() any { return Rights{} })
	add(w.Held, func() any { return Leases{} })
	add(w.Waiting, func() any { return Waits{} })
	add(w.Answer != nil, func() any { return *w.Answer })
	add(w.About, func() any { return Introduce{} })
	add(w.Would != nil, func() any { return *w.Would })
	add(w.Enrol != nil, func() any { return Enrol{*w.Enrol} })
	add(w.Renew != nil, func() any { return Renew{*w.Renew} })
	add(w.Carried != nil, func() any { return Carried{*w.Carried} })
	add(w.Leave != "", func() any { return Leave{w.Leave} })
	add(len(w.Used) > 0, func() any { return Logins{w.Used} })
	switch len(all) {
	case 0:
		return nil, line.ErrNothing
	case 1:
		return all[0], nil
	}
	return nil, line.ErrSeveral
}
