package lab

import (
	"path"
	"sort"
	"strings"
)

// tree is a host's file tree: folders end in "/", files have their text.
type tree map[string]string

// newTree gives a host the files that every machine of the bay has, and its own.
func newTree(h *Host, login string, own map[string]string) tree {
	t := tree{
		"/":                       "",
		"/etc/":                   "",
		"/etc/motd":               "Lantern Bay tide observatory: " + h.Name + "\nThis machine is simulated. Type help.\n",
		"/etc/hostname":           h.Name + "\n",
		"/var/":                   "",
		"/var/log/":               "",
		"/var/log/tide.log":       tideLog(),
		"/home/":                  "",
		"/home/" + login + "/":    "",
		"/home/" + login + "/log": "14 Oct: lamp cleaned\n15 Oct: spring tide, all gauges within a hand of the table\n",
	}
	for name, text := range own {
		for dir := path.Dir(strings.TrimSuffix(name, "/")); dir != "/"; dir = path.Dir(dir) {
			t[dir+"/"] = ""
		}
		t[name] = text
	}
	return t
}

func tideLog() string {
	var b strings.Builder
	for hour := range 24 {
		level := tideLevel(float64(hour))
		b.WriteString(strings.Join([]string{"2026-10-15T", two(hour), ":00Z level ", metres(level), "\n"}, ""))
	}
	return b.String()
}

// find resolves a name seen from the folder cwd; ok tells whether it is there.
func (t tree) find(cwd, name string) (full string, dir, ok bool) {
	if !strings.HasPrefix(name, "/") {
		name = cwd + "/" + name
	}
	full = path.Clean(name)
	if full == "/" {
		return full, true, true
	}
	if _, ok := t[full+"/"]; ok {
		return full, true, true
	}
	_, ok = t[full]
	return full, false, ok
}

// list names what stands in a folder, folders with a "/" behind.
func (t tree) list(dir string) []string {
	if dir != "/" {
		dir += "/"
	}
	var names []string
	for name := range t {
		rest, ok := strings.CutPrefix(name, dir)
		if ok && rest != "" && !strings.Contains(strings.TrimSuffix(rest, "/"), "/") {
			names = append(names, rest)
		}
	}
	sort.Strings(names)
	return names
}
