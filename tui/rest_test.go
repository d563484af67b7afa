package tui

import (
	"testing"
	"time"
)

func TestMemoryIsGivenBackWhileThePersonRests(t *testing.T) {
	d := open(t, bay(t, 1), 80, 24)
	d.resting = false
	d.press("down")
	if !d.resting {
		t.Error("nobody looks whether the person rests after a key")
	}
	if d.rested(); !d.resting {
		t.Error("a key was pressed just now, and it is not looked again")
	}
	d.touched = time.Now().Add(-restAfter)
	if give := d.rested(); d.resting || give == nil || give() != nil {
		t.Error("it is looked again though nothing was pressed")
	}
	if d.rest() == nil || d.rest() != nil {
		t.Error("it is looked twice at once")
	}
}
