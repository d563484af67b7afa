package e2e

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// A promise in a document that names its test names one that is there.
func TestDocumentsNameTestsThatAreThere(t *testing.T) {
	t.Parallel()
	declared := regexp.MustCompile(`(?m)^func ((?:Test|Fuzz|Benchmark)[A-Za-z0-9]+)\(`)
	there := map[string]bool{}
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, "_test.go") {
			return err
		}
		text, err := os.ReadFile(path)
		for _, found := range declared.FindAllStringSubmatch(string(text), -1) {
			there[found[1]] = true
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	named := regexp.MustCompile("`((?:Test|Fuzz|Benchmark)[A-Z][A-Za-z0-9]+)`")
	documents, err := filepath.Glob("../docs/*.md")
	if err != nil || len(documents) == 0 {
		t.Fatalf("%d documents, %v", len(documents), err)
	}
	count := 0
	for _, path := range append(documents, "../README.md", "../CONTRIBUTING.md") {
		text, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		for n, line := range strings.Split(string(text), "\n") {
			for _, name := range named.FindAllStringSubmatch(line, -1) {
				if count++; !there[name[1]] {
					t.Errorf("%s:%d names %s, which is not there", filepath.Base(path), n+1, name[1])
				}
			}
		}
	}
	if count < 100 {
		t.Errorf("only %d tests are named", count)
	}
}
