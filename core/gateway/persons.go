package gateway

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/libp2p/go-yamux/v5"

	"meatus/core/line"
	"meatus/core/policy"
	"meatus/core/record"
	"meatus/core/sanitize"
	"meatus/core/service"
	"meatus/core/store"
)

// onward answers one stream of a person: it leads to a machine, or tells something.
func (s *Server) onward(v *service.Visitor, near *yamux.Stream, ask line.Message) {
	ctx, cancel := context.WithTimeout(s.Context(), openTime)
	defer cancel()
	switch ask := ask.(type) {
	case line.List:
		s.list(ctx, v, near)
	case line.Entries:
		s.entries(ctx, v, near, ask.Most)
	case line.Reach:
		s.lead(ctx, v, near, ask)
	default:
		s.Refuse(near, &line.Refusal{Reason: line.NotThere, Say: "what is asked is nothing that a gateway answers"})
	}
}

// lead leads a person to a machine.
func (s *Server) lead(ctx context.Context, v *service.Visitor, near *yamux.Stream, ask line.Reach) {
	st, far, refusal := s.open(ctx, v, ask.Machine, ask.Port)
	if refusal != nil {
		s.Refuse(near, refusal)
		return
	}
	if err := line.Say(near, line.Answer{}); err != nil {
		near.Reset()
		abort(far)
		s.close(st, err)
		return
	}
	s.pass(st, near, far)
}

// list tells a person what machines there are that may be reached.
func (s *Server) list(ctx context.Context, v *service.Visitor, near *yamux.Stream) {
	p, now := s.Policy.Get(), time.Now()
	var told []any
	list, err := s.Store.Machines(ctx)
	for _, m := range list {
		if m.Revoked.IsZero() && p.Decide(v.Person, policy.Question{Machine: machineOf(m), From: service.Address(v.From), At: now}).Allowed {
			told = append(told, line.Listed{Name: m.Name, Instance: m.Instance, Tags: m.Tags, Offers: m.Offers, Joined: m.Joined})
		}
	}
	s.tell(near, told, err)
}

// entries tells a person the last entries of the record, where that may be read.
func (s *Server) entries(ctx context.Context, v *service.Visitor, near *yamux.Stream, most int) {
	if !s.Policy.Get().Reads(v.Person) {
		s.Refuse(near, &line.Refusal{Reason: line.NotAllowed, Say: v.Person + " may not read the record here: no line of its policy says \"reads\""})
		return
	}
	list, err := s.Store.LastEntries(ctx, min(most, line.MaxEntries))
	var told []any
	for _, e := range list {
		told = append(told, line.Entry{Number: e.Number, Body: e.Body})
	}
	s.tell(near, told, err)
}

// tell tells values, or that there are none since the store does not answer.
func (s *Server) tell(near *yamux.Stream, told []any, err error) {
	if err != nil {
		s.Log.Error("the store does not answer", "error", err)
		s.Refuse(near, &line.Refusal{Reason: line.NotThere, Say: "the gateway's store does not answer"})
		return
	}
	s.Tell(near, told...)
}

// openTime is how long a stream may take to be opened, with the time that is waited for its machine.
const openTime = 30 * time.Second

// open finds a machine and opens a stream to it for a person.
func (s *Server) open(ctx context.Context, v *service.Visitor, name string, port int) (*stream, line.Stream, *line.Refusal) {
	if s.Ending() {
		return nil, nil, &line.Refusal{Reason: line.NotThere, Say: errEnding.Error()}
	}
	m, to, err := s.find(ctx, name)
	unknown := errors.Is(err, store.ErrUnknown) || errors.Is(err, store.ErrRevoked)
	if err != nil && !unknown {
		s.Log.Error("the store does not answer", "error", err)
		return nil, nil, &line.Refusal{Reason: line.NotThere, Say: "the gateway's store does not answer, so nothing new is let through; tell whoever runs it"}
	}
	if unknown {
		m = store.Machine{Name: sanitize.Line(name, 64)}
	}
	st := &stream{s: s, id: rand.Text()[:12], person: v.Person, by: string(v.By.Kind) + " " + v.By.Text, from: v.From, machine: m, to: to, began: time.Now()}
	p := s.Policy.Get()
	d := st.decide(p)
	if !d.Allowed {
		// Whether there is such a machine is not said to whom it is not for.
		s.noteRefusal(ctx, record.Done{What: "refused", Person: v.Person, By: st.by, From: v.From, Machine: m.Name, To: to, Why: d.Why})
		s.Log.Info("refused", "person", v.Person, "machine", m.Name, "why", d.Why)
		if len(d.Near) == 0 { // what is told is what would be told if there were none
			if named := p.Decide(v.Person, policy.Question{Machine: policy.Machine{Name: name}, From: service.Address(v.From), At: time.Now()}); !named.Allowed {
				d = named
			}
		}
		return nil, nil, &line.Refusal{Reason: line.NotAllowed, Say: fmt.Sprintf("%s may not reach %s here: %s", v.Person, sanitize.Line(name, 64), said(d))}
	}
	if unknown {
		return nil, nil, &line.Refusal{Reason: line.NotThere, Say: fmt.Sprintf("no machine called %s has joined here", m.Name)}
	}
	st.rule = d.Why
	if why := s.admit(ctx, st, p); why != "" {
		return nil, nil, &line.Refusal{Reason: line.NoRoom, Say: why}
	}
	// A policy change from here on finds the stream in the list; an earlier one is seen by this check.
	if d := st.decide(s.Policy.Get()); !d.Allowed {
		s.release(st)
		s.noteRefusal(ctx, record.Done{What: "refused", Person: v.Person, By: st.by, From: v.From, Machine: m.Name, To: to, Why: d.Why})
		return nil, nil, &line.Refusal{Reason: line.NotAllowed, Say: fmt.Sprintf("%s may not reach %s here: %s", v.Person, st.name(), said(d))}
	}
	if err := s.Append(ctx, st.done("opened")); err != nil {
		s.release(st)
		s.Log.Error("the record cannot be written: nothing new is let through", "error", err)
		return nil, nil, &line.Refusal{Reason: line.NotThere, Say: "the gateway's record cannot be written, so nothing new is let through; tell whoever runs it"}
	}
	far, err := s.reach(ctx, st, port)
	if ended := st.ended(); err == nil && ended != nil {
		abort(far)
		err = ended
	}
	if err != nil {
		s.close(st, err)
		return nil, nil, &line.Refusal{Reason: line.NotThere, Say: err.Error()}
	}
	return st, far, nil
}

// noteRefusal logs a refusal. It writes it to the audit record only within a rate limit for each person.
func (s *Server) noteRefusal(ctx context.Context, d record.Done) {
	if s.Records(d.Person) {
		s.note(ctx, d)
	}
}

// said is a decision as the one who is refused is told: which rule, and not what others may.
func said(d policy.Decision) string {
	switch {
	case d.Rule != nil:
		return fmt.Sprintf("line %d of its policy denies it", d.Rule.Line)
	case len(d.Near) > 0:
		return fmt.Sprintf("line %d of its policy allows it at another time: %s", d.Near[0].Line, d.Near[0].Text)
	}
	return "no rule of its policy allows it; ask its administrator"
}

// Append writes the record.
func (s *Server) Append(ctx context.Context, d record.Done) error {
	ctx, cancel := context.WithTimeout(ctx, storeTime)
	defer cancel()
	d.Gateway = s.id
	return s.Store.Append(ctx, d)
}

// note writes to the record what has happened already. What cannot be recorded is said in the log.
func (s *Server) note(ctx context.Context, d record.Done) {
	if err := s.Append(context.WithoutCancel(ctx), d); err != nil {
		text, _ := json.Marshal(d)
		s.Log.Error("the record cannot be written", "error", err, "entry", string(text))
	}
}
