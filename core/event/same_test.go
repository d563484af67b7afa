package event

import (
	"fmt"
	"testing"
	"time"
)

func TestWhatManyHadAtOnceIsToldOnce(t *testing.T) {
	var list []Same
	at := time.Date(2026, 3, 2, 8, 0, 0, 0, time.UTC)
	for i := range 200 {
		list = Take(list, Record{Name: "lost", Session: fmt.Sprint("gauge-", i), Say: "the way is lost at quay"}, at.Add(time.Duration(i)*time.Millisecond))
		list = Take(list, Record{Name: "link-down", Hop: fmt.Sprint("gauge-", i), Say: fmt.Sprintf("link ended, %d bytes in", i), Failed: "quay is gone"}, at)
	}
	list = Take(list, Record{Name: "lost", Session: "sill", Say: "the way is lost at lamp"}, at)
	list = Take(list, Record{Name: "lost", Session: "gauge-7", Say: "the way is lost at quay"}, at.Add(time.Minute))
	want := []string{
		"gauge-0, gauge-1, gauge-2 and 197 more: the way is lost at quay",
		"gauge-0, gauge-1, gauge-2 and 197 more: link ended: quay is gone",
		"sill: the way is lost at lamp",
		"gauge-7: the way is lost at quay",
	}
	if len(list) != len(want) {
		t.Fatalf("%d lines: %+v", len(list), list)
	}
	for i, s := range list {
		if s.Line() != want[i] {
			t.Errorf("%d: %s", i, s.Line())
		}
	}
}
