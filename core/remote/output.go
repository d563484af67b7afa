package remote

import (
	"bytes"
	"context"
	"fmt"
	"io"

	"meatus/core/sanitize"
	"meatus/core/walk"
)

// Outcome is what a command printed, and how it ended.
type Outcome struct {
	Out, Err []byte
	Cut      bool // there was more than is kept
	Ending
}

// Begin begins a command at a passage's end that is written to and read from while it runs, and is lent
// nothing. It fails with a [gate.Failure] where it could not be started. The caller reads both outputs and
// closes it.
func Begin(ctx context.Context, p *walk.Passage, command string) (*Program, error) {
	p.Trying()
	return (&start{ctx: ctx, passage: p, command: command}).run()
}

// Run runs a command at a passage's end, gives it input, and keeps what it prints, up to
// limit bytes on each output. The command is lent nothing. It fails with a [gate.Failure]
// where the command could not be started, and with the context's error.
func Run(ctx context.Context, p *walk.Passage, command string, input []byte, limit int64) (Outcome, error) {
	return Feed(ctx, p, command, bytes.NewReader(input), limit)
}

// Feed is [Run] with a stream as input. Where reading that fails the command's input ends.
func Feed(ctx context.Context, p *walk.Passage, command string, input io.Reader, limit int64) (Outcome, error) {
	g, err := Begin(ctx, p, command)
	if err != nil {
		return Outcome{}, err
	}
	defer g.Close()
	stop := context.AfterFunc(ctx, g.Close)
	defer stop()
	go func() {
		io.Copy(g.In, input)
		g.In.Close()
	}()
	take := func(from io.Reader) (kept []byte, cut bool, err error) {
		kept, err = io.ReadAll(io.LimitReader(from, limit))
		more, _ := io.Copy(io.Discard, from)
		return kept, more > 0, err
	}
	var o Outcome
	var cutErr bool
	errs := make(chan struct{})
	go func() {
		defer close(errs)
		o.Err, cutErr, _ = take(g.Err)
	}()
	out, cut, err := take(g.Out)
	<-errs
	o.Out, o.Cut = out, cut || cutErr
	o.Ending = g.Wait()
	if ctx.Err() != nil {
		return o, ctx.Err()
	}
	return o, err
}

// Output is [Run] for what a command prints alone. A status other than 0 is an error with
// what the command said on standard error, cleaned.
func Output(ctx context.Context, p *walk.Passage, command string, input []byte, limit int64) ([]byte, error) {
	o, err := Run(ctx, p, command, input, limit)
	switch {
	case err != nil:
		return nil, err
	case o.Ending.Err != nil:
		return nil, o.Ending.Err
	case o.Status != 0 || o.Signal != "":
		return nil, fmt.Errorf("the command ended with status %d: %s", o.Status, sanitize.Line(string(o.Err), 200))
	}
	return o.Out, nil
}
