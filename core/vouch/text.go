package vouch

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"
	"golang.org/x/crypto/ssh"

	"meatus/core/atomicfile"
	"meatus/core/tomltext"
)

// text is the record as it is on disk, for an edit, with vouches in tables of their own.
// It fails where the record cannot be read.
func (r *Record) text() ([]byte, error) {
	text, err := os.ReadFile(r.path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if _, err := parse(filepath.Base(r.path), text); err != nil {
		return nil, err
	}
	return unfolded(text)
}

// unfolded writes lists of inline tables out as tables, which edits can add lines to.
func unfolded(text []byte) ([]byte, error) {
	var from, to []int
	table := false
	err := tomltext.Read(text, func(e tomltext.Entry) {
		table = table || e.Header
		if !table && !e.Header && e.Value.Kind() == tomltext.Array {
			from, to = append(from, e.From), append(to, e.To)
		}
	})
	if err != nil || len(from) == 0 {
		return text, err
	}
	var inline []byte
	rest := slices.Clone(text)
	for i := range slices.Backward(from) {
		inline = slices.Concat(text[from[i]:to[i]], []byte("\n"), inline)
		rest = slices.Delete(rest, from[i], to[i])
	}
	var f file
	if err := toml.Unmarshal(inline, &f); err != nil {
		return nil, err
	}
	tables, err := toml.Marshal(f)
	if err != nil {
		return nil, err
	}
	return append(append(bytes.TrimRight(rest, "\n"), "\n\n"...), tables...), nil
}

// entry is one vouch in the text.
type entry struct {
	host, port, way string
	print           string
	how             string
	ended           bool
	again           tomltext.Span // of the line, where it has one
	wayAt           tomltext.Span // of the value, where it has one
	last            int           // the offset behind its last value
	other           bool          // it vouches for no host
}

func (e entry) at() At {
	port, _ := strconv.ParseInt(strings.ReplaceAll(e.port, "_", ""), 0, 32)
	return At{e.host, int(port), e.way}
}

// edited adds lines to entries, behind the last value of each, and leaves every other
// byte alone. add returns the lines for an entry, nil for none.
func edited(text []byte, add func(entry) []byte) ([]byte, error) {
	var entries []entry
	err := tomltext.Read(text, func(e tomltext.Entry) {
		if e.Header {
			entries = append(entries, entry{other: e.Keys[0].Text != "vouched"})
			return
		}
		if len(entries) == 0 {
			return
		}
		at := &entries[len(entries)-1]
		at.last = e.To
		switch e.Keys[0].Text {
		case "host":
			at.host = e.Value.Text()
		case "port":
			at.port = e.Value.Text()
		case "way":
			at.way, at.wayAt = e.Value.Text(), e.Value.Span()
		case "sha256":
			at.print = e.Value.Text()
		case "how":
			at.how = e.Value.Text()
		case "again":
			at.again = e.Span
		case "until":
			at.ended = true
		}
	})
	if err != nil {
		return nil, err
	}
	for _, at := range slices.Backward(entries) {
		if at.other {
			continue
		}
		more := add(at)
		if more == nil {
			continue
		}
		behind := len(text)
		if i := bytes.IndexByte(text[at.last:], '\n'); i >= 0 {
			behind = at.last + i + 1
		} else {
			more = append([]byte("\n"), more...)
		}
		text = slices.Concat(text[:behind], more, text[behind:])
	}
	return text, nil
}

// end are the lines that make a vouch history.
func end(when time.Time, why string) []byte {
	return lines(struct {
		Until time.Time `toml:"until"`
		Ended string    `toml:"ended"`
	}{when, why})
}

// lines are a struct's fields as lines of TOML.
func lines(v any) []byte {
	text, err := toml.Marshal(v)
	if err != nil {
		panic(err) // only what stands in this package is written so
	}
	return text
}

// CarryOver gives what a record has of a host from before there were ways the way it was
// just found by.
func (r *Record) CarryOver(at At) error {
	if at.Way == "" {
		return nil
	}
	return r.change(func(e entry) []byte {
		if e.at().name() != at.anyhow().name() {
			return nil
		}
		return lines(struct {
			Way string `toml:"way"`
		}{at.Way})
	})
}

// Renamed has ways that go by a session go by its new name.
func (r *Record) Renamed(old, name string) error {
	unlock, err := atomicfile.Lock(r.path)
	if err != nil {
		return err
	}
	defer unlock()
	text, err := r.text()
	if err != nil {
		return err
	}
	var spans []tomltext.Span
	_, err = edited(text, func(e entry) []byte {
		if e.way == "via "+old {
			spans = append(spans, e.wayAt)
		}
		return nil
	})
	if err != nil || len(spans) == 0 {
		return err
	}
	slices.SortFunc(spans, func(a, b tomltext.Span) int { return b.From - a.From })
	for _, s := range spans {
		text = slices.Concat(text[:s.From], []byte(strconv.Quote("via "+name)), text[s.To:])
	}
	if _, err := parse(filepath.Base(r.path), text); err != nil {
		return err
	}
	return atomicfile.Write(r.path, text)
}

// Announce takes what a host announced over a connection with a key that a person
// vouched for: the keys that it proved to have are accepted for a time, up to
// [MaxAnnounced] of them, and announced ones that it no longer names are history. It
// tells which are new.
func (r *Record) Announce(at At, proven []ssh.PublicKey, named []string, address string, when time.Time) (fresh []ssh.PublicKey, err error) {
	unlock, err := atomicfile.Lock(r.path)
	if err != nil {
		return nil, err
	}
	defer unlock()
	current, err := r.Of(at)
	if err != nil {
		return nil, err
	}
	text, err := r.text()
	if err != nil {
		return nil, err
	}
	before := text
	when = when.UTC().Truncate(time.Second)
	text, err = edited(text, func(e entry) []byte {
		switch {
		case e.ended || e.how != Announced || e.at().name() != at.name():
		case !slices.Contains(named, e.print):
			return end(when, "no longer announced by the host")
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	text, err = r.announcedAgain(text, at, named, when)
	if err != nil {
		return nil, err
	}
	kept := 0
	for _, v := range current {
		if v.How == Announced && slices.Contains(named, v.SHA256) {
			kept++
		}
	}
	var add file
	for _, key := range proven {
		if kept+len(add.Vouched) >= MaxAnnounced {
			break
		}
		if !slices.ContainsFunc(current, func(v Vouch) bool { return v.SHA256 == ssh.FingerprintSHA256(key) }) {
			add.Vouched = append(add.Vouched, vouchOf(at, key, address, when, Announced))
			fresh = append(fresh, key)
		}
	}
	if bytes.Equal(before, text) && len(fresh) == 0 {
		return nil, nil
	}
	return fresh, r.put(text, add)
}

// announcedAgain notes when keys were last announced, to the day.
func (r *Record) announcedAgain(text []byte, at At, named []string, when time.Time) ([]byte, error) {
	day := when.Truncate(24 * time.Hour)
	of, err := r.Of(at)
	if err != nil {
		return nil, err
	}
	due := map[string]bool{}
	for _, v := range of {
		if v.How == Announced && slices.Contains(named, v.SHA256) && v.lastAnnounced().Before(day) {
			due[v.SHA256] = true
		}
	}
	if len(due) == 0 {
		return text, nil
	}
	// An older note is taken away before the new one is added.
	var old []tomltext.Span
	if _, err := edited(text, func(e entry) []byte {
		if due[e.print] && e.at().name() == at.name() && e.again.To > 0 {
			old = append(old, e.again)
		}
		return nil
	}); err != nil {
		return nil, err
	}
	slices.SortFunc(old, func(a, b tomltext.Span) int { return b.From - a.From })
	for _, span := range old {
		text = slices.Concat(text[:span.From], text[span.To:])
	}
	return edited(text, func(e entry) []byte {
		if e.ended || !due[e.print] || e.at().name() != at.name() {
			return nil
		}
		return lines(struct {
			Again time.Time `toml:"again"`
		}{day})
	})
}

// Confirm makes an announced key one that a person vouched for.
func (r *Record) Confirm(at At, sha256 string, when time.Time) error {
	unlock, err := atomicfile.Lock(r.path)
	if err != nil {
		return err
	}
	defer unlock()
	of, err := r.Of(at)
	if err != nil {
		return err
	}
	for _, v := range of {
		if v.SHA256 != sha256 || v.How != Announced {
			continue
		}
		key, err := v.PublicKey()
		if err != nil {
			return err
		}
		text, err := r.text()
		if err != nil {
			return err
		}
		when = when.UTC().Truncate(time.Second)
		text, err = edited(text, func(e entry) []byte {
			if e.ended || e.print != sha256 || e.at().name() != v.At().name() {
				return nil
			}
			return end(when, "confirmed by a person")
		})
		if err != nil {
			return err
		}
		return r.put(text, file{Vouched: []Vouch{vouchOf(v.At(), key, v.Address, when, "")}})
	}
	return errors.New("that key was not announced by the host, or is no longer accepted")
}

// change edits the record on disk.
func (r *Record) change(add func(entry) []byte) error {
	unlock, err := atomicfile.Lock(r.path)
	if err != nil {
		return err
	}
	defer unlock()
	text, err := r.text()
	if err != nil {
		return err
	}
	after, err := edited(text, add)
	if err != nil || bytes.Equal(after, text) {
		return err
	}
	return atomicfile.Write(r.path, after)
}
