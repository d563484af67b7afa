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
	ask := map[string]any{"machine": "reef", "port": 22, "person": "mira é"}
	if err := line.Say(&b, ask); err != nil {
		t.Fatal(err)
	}
	b.WriteString("SSH-2.0-")
	heard, err := line.HearMessage(&b)
	if want := (line.Reach{Machine: "reef", Port: 22, Person: "mira é"}); err != nil || !reflect.DeepEqual(heard, want) {
		t.Errorf("%+v %v", heard, err)
	}
	if rest := b.String(); rest != "SSH-2.0-" {
		t.Errorf("what follows is %q", rest)
	}
	if err := line.Say(io.Discard, strings.Repeat("x", 5000)); !errors.Is(err, line.ErrTooLong) {
		t.Error(err)
	}
	for text, want := range map[string]error{"": io.EOF, "\x00": io.ErrUnexpectedEOF, "\x00\x09{}": io.ErrUnexpectedEOF, "\x10\x01": line.ErrTooLong} {
		if _, err := line.HearMessage(strings.NewReader(text)); !errors.Is(err, want) {
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

// One thing is asked at a time, whatever a far side says.
func TestOneThingIsAskedAtATime(t *testing.T) {
	said := func(text string) (line.Message, error) {
		var b bytes.Buffer
		if err := line.Say(&b, json.RawMessage(text)); err != nil {
			t.Fatal(err)
		}
		return line.HearMessage(&b)
	}
	for text, want := range map[string]line.Message{
		`{"machine":"reef","port":22}`: line.Reach{Machine: "reef", Port: 22},
		`{"to":"db","person":"mira"}`:  line.Reach{To: "db", Person: "mira"},
		`{"leave":true}`:               line.Leave{},
		`{"list":true}`:                line.List{},
		`{"entries":7}`:                line.Entries{Most: 7},
		`{"of":{"may":true}}`:          line.OfIssuer{Of: json.RawMessage(`{"may":true}`)},
	} {
		if got, err := said(text); err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%s: %#v, %v", text, got, err)
		}
	}
	for text, want := range map[string]error{
		`{}`: line.ErrNothing, `{"entries":-1}`: line.ErrNothing, `{"list":false}`: line.ErrNothing,
		`{"machine":"reef","list":true}`: line.ErrSeveral, `{"leave":true,"entries":1}`: line.ErrSeveral, `{"list":true,"of":{}}`: line.ErrSeveral,
		`{"machine":"` + strings.Repeat("x", 256) + `"}`: line.ErrTooLong,
	} {
		if got, err := said(text); !errors.Is(err, want) {
			t.Errorf("%s: %#v, %v", text, got, err)
		}
	}
}

func FuzzHear(f *testing.F) {
	f.Add([]byte("\x00\x10{\"machine\":\"x\"}x"))
	f.Add([]byte("\x00\x02{}rest"))
	f.Fuzz(func(t *testing.T, text []byte) {
		r := bytes.NewReader(text)
		ask, err := line.HearMessage(r)
		if err != nil {
			return
		}
		if ask == nil {
			t.Fatal("nothing was asked, and that is no error")
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
