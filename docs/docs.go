// Package docs has the documents of this folder, for "meatus help TOPIC".
package docs

import (
	"embed"
	"fmt"
	"strings"
)

//go:embed *.md
var files embed.FS

// Text is a document, or with a heading that section of it, up to the next heading of its level. It fails where there is no
// such document or section.
func Text(file, heading string) (string, error) {
	all, err := files.ReadFile(file)
	if err != nil || heading == "" {
		return string(all), err
	}
	_, after, found := strings.Cut("\n"+string(all), "\n## "+heading+"\n")
	if !found {
		return "", fmt.Errorf("%s has no section %q", file, heading)
	}
	section, _, _ := strings.Cut(after, "\n## ")
	return "## " + heading + "\n" + strings.TrimRight(section, "\n") + "\n", nil
}
