// Package match finds what somebody means by a few letters, in lists of any length.
package match

import (
	"sort"
	"strings"

	"github.com/sahilm/fuzzy"
)

// Rank orders the matches of a text in a pool of lower-case texts, by their index: those that
// hold the text as it is first, then those that hold its letters in order, the better ones
// first. It costs one pass over the pool.
func Rank(text string, pool []string) []int {
	text = strings.ToLower(strings.TrimSpace(text))
	var whole, loose []int
	matches := fuzzy.FindNoSort(text, pool)
	scores := make(map[int]int, len(matches))
	for _, match := range matches {
		scores[match.Index] = match.Score
		if strings.Contains(pool[match.Index], text) {
			whole = append(whole, match.Index)
		} else {
			loose = append(loose, match.Index)
		}
	}
	for _, list := range [][]int{whole, loose} {
		sort.SliceStable(list, func(i, j int) bool { return scores[list[i]] > scores[list[j]] })
	}
	return append(whole, loose...)
}

// Words tells how well a text matches something that is called name and that people may also
// look for by other words: 0 for not, more for better. Each word of the text has to be found; as a
// whole word it counts most, in the name more than among the others, at the beginning of a word more
// than within one, and letters in order within the name or words about where it is least.
func Words(text, name, others, where string) int {
	name, others, where = strings.ToLower(name), strings.ToLower(others), strings.ToLower(where)
	words := strings.Fields(strings.NewReplacer("_", " ", "-", " ").Replace(strings.ToLower(text)))
	others = strings.NewReplacer("_", " ", "-", " ").Replace(others)
	score := 1
	for _, w := range words {
		if len(words) > 1 && filler[w] {
			continue
		}
		switch {
		case strings.Contains(" "+name+" ", " "+w+" "):
			score += 16
		case strings.Contains(" "+others+" ", " "+w+" "):
			score += 11
		case strings.HasPrefix(name, w):
			score += 12
		case strings.Contains(" "+name, " "+w):
			score += 10
		case strings.Contains(" "+others, " "+w):
			score += 6
		case strings.Contains(name, w):
			score += 4
		case len(w) > 2 && strings.Contains(others, w):
			score += 2
		case strings.Contains(where, w):
			score++
		case len(w) > 2 && near(w, name):
			score++
		default:
			return 0
		}
	}
	return score
}

// near tells whether the letters of a word stand in order in a name, from the beginning of one of its words on and close together:
// what is left out while typing, and not what happens to be spread over a sentence.
func near(w, name string) bool {
	for _, m := range fuzzy.FindNoSort(w, []string{name}) {
		first, last := m.MatchedIndexes[0], m.MatchedIndexes[len(m.MatchedIndexes)-1]
		if (first == 0 || name[first-1] == ' ') && last-first < len(w)+len(w)/2 {
			return true
		}
	}
	return false
}

// filler are words of a small phrase that tell nothing apart.
var filler = map[string]bool{"a": true, "an": true, "the": true, "my": true, "to": true, "of": true, "on": true, "in": true, "with": true, "without": true, "for": true, "i": true, "it": true, "how": true}
