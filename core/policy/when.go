package policy

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// When are days of the week and hours of the day. The zero value is always.
type When struct {
	days        [7]bool // from Sunday on; none set for every day
	some        bool    // some days alone
	from, until int     // minutes of the day; the same for all of it
	zone        *time.Location
}

var dayNames = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// holds tells whether it is then. Hours that end before they begin end on the day after, and belong to the day
// on which they began.
func (w When) holds(at time.Time) bool {
	if w.zone != nil {
		at = at.In(w.zone)
	}
	day, minute := int(at.Weekday()), at.Hour()*60+at.Minute()
	on := func(day int) bool { return !w.some || w.days[(day+7)%7] }
	switch {
	case w.from == w.until:
		return on(day)
	case w.from < w.until:
		return on(day) && minute >= w.from && minute < w.until
	}
	return on(day) && minute >= w.from || on(day-1) && minute < w.until
}

// readDays reads "mon-fri,sun".
func (w *When) readDays(text string) error {
	for part := range strings.SplitSeq(text, ",") {
		first, last, span := strings.Cut(part, "-")
		if !span {
			last = first
		}
		from, to := slices.Index(dayNames, first), slices.Index(dayNames, last)
		if from < 0 || to < 0 {
			return fmt.Errorf("%q is no day; write mon, tue, wed, thu, fri, sat, sun, or mon-fri", part)
		}
		for day := from; ; day = (day + 1) % 7 {
			w.days[day] = true
			if day == to {
				break
			}
		}
	}
	w.some = true
	return nil
}

// readHours reads "08:00-18:00".
func (w *When) readHours(text string) error {
	first, last, ok := strings.Cut(text, "-")
	from, err1 := minutes(first)
	until, err2 := minutes(last)
	if !ok || err1 != nil || err2 != nil || from == until%(24*60) {
		return fmt.Errorf("%q are no hours; write them like 08:00-18:00", text)
	}
	w.from, w.until = from, until
	return nil
}

func minutes(text string) (int, error) {
	if text == "24:00" {
		return 24 * 60, nil
	}
	at, err := time.Parse("15:04", text)
	return at.Hour()*60 + at.Minute(), err
}

// String writes days and hours as policies have them, "" for always.
func (w When) String() string {
	var parts []string
	if w.some {
		var days []string
		for day := 1; day <= 7; day++ { // a week begins on a Monday
			first := day
			if !w.days[day%7] {
				continue
			}
			for day < 7 && w.days[(day+1)%7] {
				day++
			}
			name := dayNames[first%7]
			switch {
			case day == first+1:
				name += "," + dayNames[day%7]
			case day > first:
				name += "-" + dayNames[day%7]
			}
			days = append(days, name)
		}
		parts = append(parts, "on "+strings.Join(days, ","))
	}
	if w.from != w.until {
		parts = append(parts, fmt.Sprintf("at %02d:%02d-%02d:%02d", w.from/60, w.from%60, w.until/60, w.until%60))
		if w.zone != nil && w.zone != time.UTC {
			parts[len(parts)-1] += " " + w.zone.String()
		}
	}
	return strings.Join(parts, " ")
}
