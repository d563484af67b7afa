package workspace

import (
	"time"

	"meatus/core/draw"
	"meatus/core/route"
)

// Map is the map of some sessions' routes, with the verdicts that this machine alone
// can give. It fails where a session cannot be planned.
func (w *Workspace) Map(sessions []string, title string, at time.Time) (draw.Map, error) {
	m := draw.Map{Title: title, At: at}
	seen := route.KeySheets{}
	for _, name := range sessions {
		r, err := w.Planner().Plan(name)
		if err != nil {
			return m, err
		}
		one := draw.Routed{Route: r, Report: r.Check(route.Knowledge{Vouched: w.Vouched, Keys: seen, Logins: w.Logins}), Prints: map[string]string{}}
		if s := w.Book.Session(name); s != nil {
			one.Site = s.Site.V
		}
		for path, sheet := range seen {
			one.Prints[path] = sheet.Sheet.SHA256
		}
		m.Routes = append(m.Routes, one)
	}
	return m, nil
}
