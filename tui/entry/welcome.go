package entry

import (
	"fmt"
	"strings"

	"meatus/core/gate"
	"meatus/core/keyfile"
	"meatus/core/sanitize"
	"meatus/core/workspace"
	"meatus/tui/fit"
)

// welcome draws what stands above the line on a first start: what can be written there,
// and the keys that were downloaded.
func (m *Model) welcome(width, height int) []string {
	t := m.s.Theme
	lines := []string{"", "   " + t.Strong.Render("Where do you want to go?"), ""}
	lines = append(lines, "   "+fit.Pad("Write it in a line:", 30)+t.Accent.Render(fit.Cut("tide-db = keeper@10.61.4.20 via quay", max(width-38, 10))))
	for _, l := range fit.Wrap("Or paste the connect command that your cloud's console shows for the machine, with its key, login, ports and hops: it is read, never run, and becomes such a line. Nothing is sent before you walk.", max(width-6, 20)) {
		lines = append(lines, "   "+t.Faint.Render(l))
	}
	lines = append(lines, "")
	if len(m.keys) > 0 {
		lines = append(lines, "   "+t.Strong.Render(fmt.Sprintf("Keys in %s", workspace.Short(m.ws.Downloads))))
		for i, k := range m.keys {
			if i == 5 {
				lines = append(lines, "     "+t.Faint.Render(fmt.Sprintf("and %d more", len(m.keys)-5)))
				break
			}
			lines = append(lines, m.key(k, width))
		}
		lines = append(lines, "")
	}
	lines = append(lines, "   "+t.Key.Render("ctrl+d")+t.Faint.Render("  a look at the demo, a made-up bay to try things in"),
		"   "+t.Faint.Render(fit.Cut("Sessions are kept in "+workspace.Short(m.ws.SessionsPath()), max(width-4, 10))))
	return lines[:min(len(lines), height)]
}

// key is a downloaded key in a line.
func (m *Model) key(k keyfile.Sheet, width int) string {
	t := m.s.Theme
	verdict, say := gate.Open, "owner only"
	if fault, stopped := k.Blocked(); stopped {
		verdict, say = gate.Shut, fault.Say
		if fault.Mending {
			say += "; adopting it mends that"
		}
	}
	kind := k.Kind
	if kind == "" {
		kind = "locked"
	}
	name := sanitize.Name(k.Path)
	if strings.ContainsAny(name, " \t,=") {
		name = `"` + name + `"`
	}
	return "     " + t.Mark(verdict) + " " + fit.Pad("with "+name, 28) + t.Faint.Render(fit.Cut(fmt.Sprintf("%-8s %s", kind, say), max(width-38, 10)))
}
