package lab

import (
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"meatus/core/cargo"
)

// tables are the tide tables of the year: what the keeper has here, and at the archive. "" is a
// file that is not there.
var tables = map[string]struct {
	here, there         string
	hereDays, thereDays int // before they were written last, counted back from the bay's files
}{
	"october.csv":            {tideTable(10, 31), tideTable(10, 31), 20, 20},
	"november.csv":           {tideTable(11, 30), tideTable(11, 24), 1, 9},
	"december.csv":           {tideTable(12, 31), "", 1, 0},
	"README":                 {"Tide tables of Lantern Bay.\nTimes are UTC, levels metres above chart datum.\n", "Tide tables of Lantern Bay.\n", 3, 30},
	"notes.txt":              {"lamp: oil low\n", "lamp: oil low\n15 Oct: spring tide, a hand over the table\n", 8, 2},
	"charts/approach.svg":    {"<svg><!-- the approach --></svg>\n", "<svg><!-- the approach --></svg>\n", 40, 40},
	"charts/inner-reef.svg":  {"<svg><!-- the inner reef, as sounded in spring --></svg>\n", "", 5, 0},
	"charts/old-channel.svg": {"", "<svg><!-- the channel before the storm --></svg>\n", 0, 900},
	"soundings/line-4.dat":   {"", strings.Repeat("4.31 4.28 4.30 4.27\n", 400), 0, 6},
	"soundings/line-5.dat":   {"", strings.Repeat("3.90 3.95 3.92 3.91\n", 700), 0, 4},
	"web/index.html":         {"<h1>Lantern Bay</h1>\n<p>High water 06:12 and 18:40.</p>\n", "<h1>Lantern Bay</h1>\n<p>Tide tables.</p>\n", 0, 12},
	"web/style.css":          {"body { margin: 2rem }\n", "body { margin: 2rem }\n", 60, 60},
}

// tideTable is a month's high waters.
func tideTable(month, days int) string {
	var b strings.Builder
	b.WriteString("date,high,level\n")
	for day := 1; day <= days; day++ {
		fmt.Fprintf(&b, "2026-%02d-%02d,%02d:%02d,%s\n", month, day, (6+day*5/6)%24, day*7%60, metres(tideLevel(float64(day))))
	}
	return b.String()
}

func daysBefore(days int) time.Time { return filesSince.AddDate(0, 0, -days) }

// plantArchive gives the archive what is worth moving: thousands of small readings, a few large
// soundings, a link that leads nowhere, odd names, and the tables that are worked on.
func (h *Host) plantArchive() {
	const readings = "/srv/archive/readings"
	for year := 1998; year <= 2003; year++ {
		for month := 1; month <= 12; month++ {
			for day := 1; day <= 28; day++ {
				name := fmt.Sprintf("%s/%d/%02d/%02d.txt", readings, year, month, day)
				h.files.plant(name, fmt.Sprintf("%d-%02d-%02d 06:00 level %s m\n", year, month, day, metres(tideLevel(float64(day)))), 0o644)
				h.files.nodes[name].at = time.Date(year, time.Month(month), day, 6, 0, 0, 0, time.UTC)
			}
		}
	}
	for i, name := range []string{"survey-1999.raw", "survey-2001.raw"} {
		h.files.setLocked("/srv/archive/"+name, &node{mode: 0o644, text: soundings()[: (i+1)*4<<20 : (i+1)*4<<20], at: filesSince})
	}
	h.files.setLocked("/srv/archive/latest", &node{mode: fs.ModeSymlink | 0o777, leads: "readings/2004", at: filesSince})
	h.files.plant("/srv/archive/odd/tide\ntable.txt", "a line's end is in its name\n", 0o644)
	h.files.plant("/srv/archive/odd/\x1b[31mred.txt", "an escape sequence is in its name\n", 0o644)
	h.files.plant("/srv/archive/odd/caf\xe9.txt", "its name is no UTF-8\n", 0o644)
	h.files.plant("/srv/archive/odd/Storm.txt", "12 Jan\n", 0o644)
	h.files.plant("/srv/archive/odd/storm.txt", "13 Jan\n", 0o644)
	for name, t := range tables {
		if full := path.Join("/home/keeper/tables", name); t.there != "" {
			h.files.plant(full, t.there, 0o644)
			h.files.nodes[full].at = daysBefore(t.thereDays)
		}
	}
}

// soundings are bytes that cannot be made smaller, the same in every lab.
var soundings = sync.OnceValue(func() []byte {
	b := make([]byte, 8<<20)
	random := rand.NewChaCha8([32]byte{'t', 'i', 'd', 'e'})
	random.Read(b)
	return b
})

// Text is the text of a file of the host, "" where there is none.
func (h *Host) Text(name string) string { return h.files.read(name) }

// SetText writes a file of the host, as somebody else who works there does.
func (h *Host) SetText(name, text string) {
	h.files.mu.Lock()
	defer h.files.mu.Unlock()
	h.files.plant(name, text, 0o644)
	h.files.nodes[name].at = time.Now()
}

// Tables is the folder here with the keeper's tables.
func (b *Lab) Tables() string { return filepath.Join(b.Dir, "tables") }

// plantTables writes the keeper's tables of this machine at the first start, and has Cargo know
// where they belong.
func (b *Lab) plantTables() error {
	if _, err := os.Stat(b.Tables()); err == nil {
		return nil
	}
	for name, t := range tables {
		if t.here == "" {
			continue
		}
		full := filepath.Join(b.Tables(), name)
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(full, []byte(t.here), 0o644); err != nil {
			return err
		}
		if err := os.Chtimes(full, daysBefore(t.hereDays), daysBefore(t.hereDays)); err != nil {
			return err
		}
	}
	return cargo.Remember(b.Dir, "archive", cargo.Last{Here: b.Tables(), There: "/home/keeper/tables"})
}
