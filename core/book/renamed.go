package book

import "fmt"

// Renames finds sessions that have another name after an edit: each that is gone, where
// one is new that says the same.
func Renames(before, after *Book) map[string]string {
	said := func(s *Session) string {
		text := ""
		for _, key := range Fields {
			value, origin := s.Text(key)
			text += fmt.Sprintf("%s=%q %v\n", key, value, origin.Layer())
		}
		return text
	}
	fresh, many := map[string]string{}, map[string]bool{}
	for _, s := range after.Sessions {
		if before.Session(s.Name) == nil {
			many[said(s)] = fresh[said(s)] != ""
			fresh[said(s)] = s.Name
		}
	}
	renames := map[string]string{}
	if len(fresh) == 0 {
		return renames
	}
	for _, s := range before.Sessions {
		if after.Session(s.Name) != nil {
			continue
		}
		text := said(s)
		if name := fresh[text]; name != "" && !many[text] {
			renames[s.Name], many[text] = name, true
		}
	}
	return renames
}
