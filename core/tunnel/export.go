package tunnel

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"

	"meatus/core/sanitize"
)

// Exported is a live flow as it is written for other programs. What comes from elsewhere is
// cleaned.
type Exported struct {
	Process int       `json:"pid"` // of the Meatus whose it is
	Session string    `json:"session"`
	Door    string    `json:"door"`
	From    string    `json:"from"`
	Program string    `json:"program,omitempty"`
	To      string    `json:"to"`
	Began   time.Time `json:"began"`
	Last    time.Time `json:"last_byte"`
	In      uint64    `json:"bytes_in"`
	Out     uint64    `json:"bytes_out"`
}

// Export are the flows of programs, in their order.
func Export(seen []Seen) []Exported {
	all := []Exported{}
	for _, s := range seen {
		for _, f := range s.Flows {
			all = append(all, Exported{s.PID, f.Session, f.Listener, clean(f.From), clean(f.Program), clean(f.To), f.Began.UTC(), f.Last.UTC(), f.In, f.Out})
		}
	}
	return all
}

func clean(s string) string { return sanitize.Line(s, 300) }

// WriteFlows writes flows as "csv" (RFC 4180, the times by RFC 3339) or "json". A text that a
// spreadsheet would take for a formula has an apostrophe before it.
func WriteFlows(w io.Writer, flows []Exported, format string) error {
	switch format {
	case "json":
		out := json.NewEncoder(w)
		out.SetIndent("", "  ")
		return out.Encode(flows)
	case "csv":
		out := csv.NewWriter(w)
		out.Write([]string{"pid", "session", "door", "from", "program", "to", "began", "last_byte", "bytes_in", "bytes_out"})
		for _, f := range flows {
			out.Write([]string{fmt.Sprint(f.Process), f.Session, text(f.Door), text(f.From), text(f.Program), text(f.To), f.Began.Format(time.RFC3339Nano), f.Last.Format(time.RFC3339Nano), fmt.Sprint(f.In), fmt.Sprint(f.Out)})
		}
		out.Flush()
		return out.Error()
	}
	return fmt.Errorf("unknown format %q; the formats are csv and json", sanitize.Line(format, 20))
}

func text(s string) string {
	if s != "" && strings.ContainsRune("=+-@", rune(s[0])) {
		return "'" + s
	}
	return s
}
