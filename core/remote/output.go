package remote

import (
	"context"
	"fmt"
	"io"

	"meatus/core/sanitize"
	"meatus/core/walk"
)

// Output runs a command at a passage's end, gives it input, and returns what it
// prints, up to limit bytes. A status other than 0 is an error with what the
// command said on standard error, cleaned. The command is lent nothing.
func Output(ctx context.Context, p *walk.Passage, command string, input []byte, limit int64) ([]byte, error) {
	g := &Program{}
	p.Trying()
	if err := g.start(ctx, p, command, nil, nil, nil); err != nil {
		return nil, err
	}
	defer g.Close()
	stop := context.AfterFunc(ctx, g.Close)
	defer stop()
	go func() {
		g.In.Write(input)
		g.In.Close()
	}()
	errs := make(chan []byte, 1)
	go func() {
		said, _ := io.ReadAll(io.LimitReader(g.Err, 4096))
		io.Copy(io.Discard, g.Err)
		errs <- said
	}()
	out, err := io.ReadAll(io.LimitReader(g.Out, limit))
	io.Copy(io.Discard, g.Out)
	said := <-errs
	ending := g.Wait()
	switch {
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case err != nil:
		return nil, err
	case ending.Err != nil:
		return nil, ending.Err
	case ending.Status != 0 || ending.Signal != "":
		return nil, fmt.Errorf("the command ended with status %d: %s", ending.Status, sanitize.Line(string(said), 200))
	}
	return out, nil
}
