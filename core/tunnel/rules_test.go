package tunnel

import (
	"testing"

	"meatus/core/book"
)

func TestDestinationsAreReadAsWritten(t *testing.T) {
	for _, c := range []struct {
		only, to string
		fits     bool
	}{
		{"*", "anything.example:80", true},
		{"*", "10.61.4.31:22", true},
		{"*", "[2001:db8::1]:22", true},
		{"*:443", "anything.example:443", true},
		{"*:443", "anything.example:80", false},
		{"10.61.*", "10.61.4.31:22", true},
		{"10.61.*", "10.62.4.31:22", false},
		{"10.61.*", "10.61.lantern.example:22", false}, // a name may begin like an address
		{"10.61.4.*", "10.61.44.1:22", false},
		{"10.61.4.3?", "10.61.4.31:22", true},
		{"*.internal", "tide-db.internal:5432", true},
		{"*.internal", "TIDE-DB.INTERNAL.:5432", true},
		{"*.internal", "internal:5432", false},
		{"*.internal", "10.61.4.31:5432", false}, // an address is no name
		{"tide-*", "tide-db.internal:5432", true},
		{"tide-*", "ebb-tide-db:5432", false},
		{"10.61.4.0/24", "10.61.4.31:22", true},
		{"10.61.4.0/24", "tide-db.internal:22", false},
		{"127.0.0.1", "[::ffff:127.0.0.1]:22", true},
		{"::1", "[::1%lo]:22", true},
		{"10.61.4.31", "10.61.4.310:22", false},
	} {
		_, err := newRules(book.Tunnel{Only: c.only}).judge(c.to)
		if (err == nil) != c.fits {
			t.Errorf("only %q: %s: %v", c.only, c.to, err)
		}
	}
}
