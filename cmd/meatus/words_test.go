package main

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
)

// banned are phrases that a reader who does not know Meatus has to read twice.
var banned = []string{
	"what stands in it", "what stands there", "be an issuer", "be a gateway", "hold no more", "join no more", "carry what", "has become another", "written anew", "write a key anew",
	"have them inherited", "stand in front of", "stands in front of", "something is off", "closes these doors", "walked again", "walk again", "doors stay", "what was moved",
	"what is expected holds", "the door of its tunnel", "goes on like that", "puts this away", "put it away", "every use is told", "none is asked for", "whoever has", "how it stands",
	"ask whoever", "have whoever", "did not get through", "takes none of", "gives no lease", "lets us on", "whoever reaches it", "the way is lost", "is not its own",
}

// A test of a phrase that is banned would name it: only texts of the program and its documents are read.
func TestNoBannedPhrase(t *testing.T) {
	for _, dir := range []string{"../../cmd", "../../core", "../../tui", "../../lab"} {
		filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
			if err != nil || e.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.SkipObjectResolution)
			if err != nil {
				t.Fatal(err)
			}
			ast.Inspect(file, func(n ast.Node) bool {
				if l, ok := n.(*ast.BasicLit); ok && l.Kind == token.STRING {
					text, _ := strconv.Unquote(l.Value)
					refuse(t, path, text)
				}
				return true
			})
			return nil
		})
	}
	docs, _ := filepath.Glob("../../docs/*.md")
	for _, path := range append(docs, "../../README.md", "../../CONTRIBUTING.md") {
		text, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		refuse(t, path, string(text))
	}
}

func refuse(t *testing.T, path, text string) {
	text = strings.Join(strings.Fields(text), " ")
	for _, phrase := range banned {
		if i := strings.Index(text, phrase); i >= 0 {
			t.Errorf("%s: %q in %q", path, phrase, text[max(i-40, 0):min(i+60, len(text))])
		}
	}
}

// sentenceEnd parts the sentences of help.
var sentenceEnd = regexp.MustCompile(`[.:;]\s`)

func TestHelpIsReadAtOnce(t *testing.T) {
	every(commands(new(live.Opener)), "", func(c *command.Command, path string) {
		if n := len(strings.Fields(c.Summary)); n > 10 {
			t.Errorf("the summary of %q has %d words: %s", path, n, c.Summary)
		}
		for _, paragraph := range strings.Split(c.Details, "\n\n") {
			if strings.HasPrefix(paragraph, "  ") { // an example
				continue
			}
			for _, sentence := range sentenceEnd.Split(strings.Join(strings.Fields(paragraph), " "), -1) {
				if n := len(strings.Fields(sentence)); n > 25 {
					t.Errorf("a sentence of %d words in the help of %q: %s", n, path, sentence)
				}
			}
		}
	})
}
