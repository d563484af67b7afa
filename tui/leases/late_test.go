package leases

import (
	"errors"
	"strings"
	"testing"

	"meatus/core/work"
	"meatus/tui/placetest"
)

// What was asked before the last question is answered too late, and does not count.
func TestALateAnswerDoesNotCount(t *testing.T) {
	d, _ := placetest.Lab(t)
	d.Place(New)
	m := d.On().(*Model)
	d.UntilSees("keeper@weir")
	late := errors.New("this answer is late")
	if d.Give(read{m.asking - 1, work.AtIssuer{}, late}); strings.Contains(d.See(), late.Error()) {
		t.Errorf("it shows\n%s", d.See())
	}
	if d.Give(read{m.asking, work.AtIssuer{}, late}); !strings.Contains(d.See(), late.Error()) {
		t.Errorf("what was asked last does not count:\n%s", d.See())
	}
	d.Press("r")
	d.UntilSees("keeper@weir")
}
