package remote_test

import (
	"context"
	"errors"
	"io"
	"testing"
	"time"

	"meatus/core/remote"
	"meatus/lab/await"
)

// within fails a test where something waits for a far side that says nothing more.
func within(t *testing.T, what string, do func()) {
	t.Helper()
	done := make(chan struct{})
	go func() {
		defer close(done)
		do()
	}()
	select {
	case <-done:
	case <-time.After(await.Patience):
		t.Fatalf("%s waits for the far side for ever", what)
	}
}

func TestNothingWaitsForAServerThatAnswersNoMore(t *testing.T) {
	b := openBay(t, nil)
	p, err := b.Walk(context.Background(), b.route("gauge-1"))
	if err != nil {
		t.Fatal(err)
	}
	host := b.lab.Host("gauge-1")
	files, done, err := remote.Files(context.Background(), p, 0)
	if err != nil {
		t.Fatal(err)
	}
	program, err := b.programs.Start(context.Background(), p, "", nil)
	if err != nil {
		t.Fatal(err)
	}
	host.Faults.Freeze(true)
	defer host.Faults.Freeze(false)

	ctx, cancel := context.WithCancel(context.Background())
	asked := make(chan error, 1)
	go func() {
		_, err := remote.Output(ctx, p, "hostname", nil, 1<<10)
		asked <- err
	}()
	cancel()
	within(t, "a command that is stopped", func() {
		if err := <-asked; !errors.Is(err, context.Canceled) {
			t.Errorf("a command that is stopped: %v", err)
		}
	})
	looked := make(chan error, 1)
	go func() { _, err := files.ReadDir("."); looked <- err }()
	within(t, "the end of a file-transfer channel", done)
	within(t, "what is read over a channel that was ended", func() {
		if err := <-looked; err == nil {
			t.Error("a folder was read from a frozen machine")
		}
	})
	program.Close()
	within(t, "a shell that was closed", func() {
		io.Copy(io.Discard, program.Out)
		io.Copy(io.Discard, program.Err)
		if ending := program.Wait(); ending.Err == nil {
			t.Errorf("it ended as %+v", ending)
		}
	})
	within(t, "giving the passage up", p.Close)
}
