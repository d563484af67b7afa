package estate

import (
	"cmp"
	"slices"
	"strings"
)

// mostOffered is how many completions are offered at once.
const mostOffered = 50

// Complete offers what the last word of a query can become, by what is known: first its key, then the
// values that instances have there, those that most have first. Each is the whole query.
func Complete(text string, all []Kept) []string {
	at := strings.LastIndexByte(text, ' ') + 1
	before, word := text[:at], text[at:]
	not := ""
	if rest, ok := strings.CutPrefix(word, "!"); ok {
		not, word = "!", rest
	}
	key, value, valued := strings.Cut(word, "=")
	var offers []string
	switch {
	case valued:
		offers = valuesOf(key, value, all)
		for i := range offers {
			offers[i] = key + "=" + quoted(offers[i])
		}
	case strings.HasPrefix(key, "tag:"):
		for _, tag := range valuesOf("tag:", strings.TrimPrefix(key, "tag:"), all) {
			offers = append(offers, "tag:"+tag+"=")
		}
	default:
		for _, k := range QueryKeys {
			if strings.HasPrefix(k, key) && key != "" {
				offers = append(offers, strings.TrimSuffix(k, ":")+map[bool]string{true: ":", false: "="}[k == "tag:"])
			}
		}
		for _, name := range valuesOf("name", key, all) {
			offers = append(offers, quoted(name))
		}
	}
	for i := range offers {
		offers[i] = before + not + offers[i]
	}
	return offers[:min(len(offers), mostOffered)]
}

// Completed is what a query becomes by one key: what all that it can become begin with, where that is more than is
// typed, else the first of them. It stays as it is where nothing goes on like that.
func Completed(text string, offers []string) string {
	if len(offers) == 0 {
		return text
	}
	common := offers[0]
	for _, o := range offers[1:] {
		n := 0
		for n < min(len(common), len(o)) && common[n] == o[n] {
			n++
		}
		common = strings.ToValidUTF8(common[:n], "")
	}
	if len(common) <= len(text) {
		return offers[0]
	}
	return common
}

// Offered are completions as they are shown beside what is typed: the last word of each.
func Offered(offers []string, most int) string {
	var all []string
	for _, o := range offers[:min(len(offers), most)] {
		all = append(all, o[strings.LastIndexByte(strings.TrimSuffix(o, "\""), ' ')+1:])
	}
	return strings.Join(all, " · ")
}

func quoted(value string) string {
	if strings.ContainsAny(value, " \t") {
		return `"` + value + `"`
	}
	return value
}

// valuesOf are the values of a key that begin with a text, those that most instances have first.
func valuesOf(key, begin string, all []Kept) []string {
	n := map[string]int{}
	count := func(values ...string) {
		for _, v := range values {
			if v != "" && strings.HasPrefix(v, begin) && !strings.ContainsAny(v, `"=`) {
				n[v]++
			}
		}
	}
	tag, tagged := strings.CutPrefix(key, "tag:")
	for k := range all {
		s := &all[k].Snapshot
		for i := range s.Instances {
			one := &s.Instances[i]
			switch {
			case tagged && tag == "":
				for name := range one.Tags {
					count(name)
				}
			case tagged:
				count(one.Tags[tag])
			default:
				count(one.values(key, all[k].Source, s)...)
			}
		}
	}
	values := make([]string, 0, len(n))
	for v := range n {
		values = append(values, v)
	}
	slices.SortFunc(values, func(a, b string) int {
		return cmp.Or(cmp.Compare(n[b], n[a]), strings.Compare(a, b))
	})
	return values
}

// values are what an instance has by a key of a query other than a tag.
func (i *Instance) values(key, source string, s *Snapshot) []string {
	switch key {
	case "name":
		return []string{i.Name}
	case "source":
		return []string{source}
	case "id":
		return []string{i.ID}
	case "state":
		return []string{string(i.State)}
	case "checks":
		return []string{string(i.Checks)}
	case "image":
		m, _ := s.ImageOf(i)
		return []string{cmp.Or(m.Name, i.Image)}
	case "key":
		return []string{i.KeyPair}
	case "group":
		var names []string
		for _, id := range i.Groups {
			names = append(names, s.groupName(id))
		}
		return names
	case "network", "address":
		var all []string
		for _, a := range i.Addresses {
			if key == "address" {
				all = append(all, a.IP.String())
			} else if a.Network != "" {
				all = append(all, s.NetworkName(a.Network))
			}
		}
		return all
	}
	return nil
}
