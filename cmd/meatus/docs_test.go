package main

import (
	"flag"
	"os"
	"testing"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
)

var renew = flag.Bool("renew", false, "write docs/commands.md anew")

const reference = "../../docs/commands.md"

// docs/commands.md is made from the commands themselves.
func TestDocsListEveryCommand(t *testing.T) {
	want := "# Commands\n\nWritten by `go test ./cmd/meatus -run DocsListEveryCommand -renew` from the commands' own declarations. `meatus COMMAND --help`\nhas the flags of each.\n\n" +
		command.Reference(commands(new(live.Opener)))
	if *renew {
		if err := os.WriteFile(reference, []byte(want), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if got, err := os.ReadFile(reference); err != nil || string(got) != want {
		t.Errorf("docs/commands.md is not what the commands say; -renew writes it: %v", err)
	}
}
