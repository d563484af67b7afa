package remote

import "testing"

func TestWhatAMachineSaysOfAnotherLoginIsRead(t *testing.T) {
	for _, c := range []struct {
		printed, login string
		ok             bool
	}{
		{"Please login as the user \"admin\" rather than the user \"root\".\r\n\r\n", "admin", true},
		{"Please login as the user admin rather than root", "admin", true},
		{"\x1b[31mPlease log in as 'keeper' instead of 'root'.\x1b[0m", "keeper", true},
		{"Please login as the user \"NONE\" rather than the user \"root\".", "", true},
		{"Please login as the user \"root\" rather than the user \"root\".", "", true},
		{"Please login as the user \"$(id)\" rather than the user \"root\".", "", false},
		{"This account is currently not available.\n", "", true},
		{"Shell access is disabled", "", true},
		{"Last login: Tue Dec  1 22:10:04 2026 from 203.0.113.7", "", false},
		{"you can log in as anybody", "", false},
		{"", "", false},
	} {
		login, said, ok := turnedAway(c.printed, "root")
		if login != c.login || ok != c.ok {
			t.Errorf("%q: %q, %v (%q); want %q, %v", c.printed, login, ok, said, c.login, c.ok)
		}
	}
}
