package work

import (
	"testing"
	"time"

	"meatus/core/trail"
)

func TestARecordAsATimeline(t *testing.T) {
	now := time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)
	ago := func(d time.Duration) time.Time { return now.Add(-d) }
	l := RecordTimeline([]trail.Entry{
		{Event: "granted", At: ago(time.Hour), Took: time.Minute, Who: "mira", Session: "reef"},
		{Event: "granted", At: ago(time.Minute), Took: time.Hour, Who: "oskar", Session: "tide-db"}, // it lasts still
		{Event: "closed", At: ago(23 * time.Hour), Took: 3 * time.Hour, Who: "anni", Session: "reef"},
		{Event: "refused", At: ago(time.Hour), Who: "bo", Session: "reef"},
		{Event: "granted", At: ago(25 * time.Hour), Took: time.Minute, Who: "old", Session: "reef"},
	}, "a day", 24*time.Hour, now)
	if len(l.Stays) != 3 || !l.Stays[0].To.Equal(ago(59*time.Minute)) || !l.Stays[1].To.Equal(now) || !l.Stays[2].From.Equal(ago(24*time.Hour)) || l.Stays[2].Who != "anni" {
		t.Errorf("%+v", l.Stays)
	}
}
