package tomltext

import (
	"errors"
	"fmt"
	"strings"
	"testing"
)

const sample = "# tides\n[site.reef]\nvia = [ # first\n  \"quay\", \"spit\",\n]\nport = 22 # usual\n[[like]]\nname = 'gauge-*'\nt = { bring = \"1\", n = [2] }\n"

func TestEveryEntryHasItsPlace(t *testing.T) {
	var got []string
	err := Read([]byte(sample), func(e Entry) {
		at := e.Keys[len(e.Keys)-1]
		if sample[at.From:at.To] != at.Text {
			t.Errorf("%q is said to stand at %q", at.Text, sample[at.From:at.To])
		}
		if e.Header {
			got = append(got, fmt.Sprint("header ", len(e.Keys), e.Array))
			return
		}
		text := e.Value.Kind().String() + " " + e.Value.Text()
		for item := range e.Value.Items() {
			if e.Value.Kind() == Array {
				text += "," + item.Text()
			}
		}
		if e.Value.Kind() == Table {
			for key, value := range e.Value.Pairs() {
				text += key[0].Text + "=" + value.Kind().String()
			}
		}
		got = append(got, at.Text+": "+strings.TrimSpace(text))
	})
	if err != nil {
		t.Fatal(err)
	}
	want := "header 2 false|via: a list ,quay,spit|port: a number 22|header 1 true|name: a text gauge-*|t: a table bring=a textn=a list"
	if s := strings.Join(got, "|"); s != want {
		t.Errorf("got  %s\nwant %s", s, want)
	}
}

func TestAMistakeIsToldWithItsPlace(t *testing.T) {
	text := "a = 1\nb = = 2\n"
	var m *Mistake
	if err := Read([]byte(text), func(Entry) {}); !errors.As(err, &m) || m.At < 6 || m.At > len(text) {
		t.Errorf("got %v at %+v", err, m)
	}
}

// FuzzRead looks for texts that are read without an end, or whose places lie outside.
func FuzzRead(f *testing.F) {
	f.Add(sample)
	f.Add("a.b.c = \"\\u00e4\"\n[[x]]\n")
	f.Fuzz(func(t *testing.T, text string) {
		err := Read([]byte(text), func(e Entry) {
			for _, k := range e.Keys {
				if k.From < 0 || k.To < k.From || k.To > len(text) {
					t.Errorf("a key stands at %+v of %d bytes", k.Span, len(text))
				}
			}
			if !e.Header {
				if s := e.Value.Span(); s.From < 0 || s.To < s.From || s.To > len(text) {
					t.Errorf("a value stands at %+v of %d bytes", s, len(text))
				}
			}
		})
		var m *Mistake
		if errors.As(err, &m) && (m.At < 0 || m.At > len(text)) {
			t.Errorf("a mistake stands at %d of %d bytes", m.At, len(text))
		}
	})
}
