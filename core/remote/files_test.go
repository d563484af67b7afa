package remote_test

import (
	"context"
	"testing"

	"meatus/core/remote"
	"meatus/lab/servertest"
)

// A program that ends before it has heard anything ends its channel, and not the link that others use.
func TestAFileChannelThatEndsAtOnceLeavesTheLink(t *testing.T) {
	s := servertest.Start(t)
	p, err := s.Walker(t).Walk(context.Background(), s.Way(1))
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	for n := range 60 {
		if _, err := remote.FilesWith(t.Context(), p, remote.FileOptions{Command: "exit 3"}); !remote.NoFiles(err) {
			t.Fatalf("the %d. time: %v", n+1, err)
		}
	}
	if o, err := remote.Run(t.Context(), p, "echo there", nil, 100); err != nil || string(o.Out) != "there\n" {
		t.Errorf("%q, %v", o.Out, err)
	}
}
