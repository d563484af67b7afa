package line_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"reflect"
	"strings"
	"testing"

	"meatus/core/line"
)

func TestWhatIsSaidIsHeard(t *testing.T) {
	var b bytes.Buffer
	ask := line.Ask{Machine: "reef", Port: 22, Person: "mira é"}
	if err := line.Say(&b, ask); err != nil {
		t.Fatal(err)
	}
	b.WriteString("SSH-2.0-")
	var heard line.Ask
	if err := line.Hear(&b, &heard); err != nil || !reflect.DeepEqual(heard, ask) {
		t.Errorf("%+v %v", heard, err)
	}
	if rest := b.String(); rest != "SSH-2.0-" {
		t.Errorf("what follows is %q", rest)
	}
	if err := line.Say(io.Discard, line.Ask{Machine: strings.Repeat("x", 5000)}); !errors.Is(err, line.ErrTooLong) {
		t.Error(err)
	}
	for text, want := range map[string]error{"": io.EOF, "\x00": io.ErrUnexpectedEOF, "\x00\x09{}": io.ErrUnexpectedEOF, "\x10\x01": line.ErrTooLong} {
		if err := line.Hear(strings.NewReader(text), &heard); !errors.Is(err, want) {
			t.Errorf("%q: %v", text, err)
		}
	}
	if all, err := line.Told[line.Listed](strings.NewReader("{\"name\":\"a\"}\n{\"name\":\"b\"}\n")); err != nil || len(all) != 2 || all[1].Name != "b" {
		t.Errorf("%+v %v", all, err)
	}
	if _, err := line.Told[line.Listed](strings.NewReader("{\"name\":\"a\"}\n{\"na")); err == nil {
		t.Error("half a list was taken")
	}
}

func FuzzHear(f *testing.F) {
	f.Add([]byte("\x00\x10{\"machine\":\"x\"}x"))
	f.Add([]byte("\x00\x02{}rest"))
	f.Fuzz(func(t *testing.T, text []byte) {
		r := bytes.NewReader(text)
		var ask line.Ask
		if err := line.Hear(r, &ask); err != nil {
			return
		}
		length := int(text[0])<<8 | int(text[1])
		if read := len(text) - r.Len(); read != 2+length {
			t.Errorf("%d bytes were read of %d", read, 2+length)
		}
		if again, err := json.Marshal(ask); err != nil || !json.Valid(again) {
			t.Errorf("%+v", ask)
		}
	})
}
