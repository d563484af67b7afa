package cargo

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"meatus/core/cargo/ends"
)

// format names what a saved plan is, and version which one.
const (
	format  = "meatus cargo plan"
	version = 1
)

// name is a file's name in JSON: a string, or where it is no UTF-8 an object with its bytes in
// base64.
type name string

// MarshalJSON writes it.
func (n name) MarshalJSON() ([]byte, error) {
	if utf8.ValidString(string(n)) {
		return json.Marshal(string(n))
	}
	return json.Marshal(map[string]string{"bytes": base64.StdEncoding.EncodeToString([]byte(n))})
}

// UnmarshalJSON reads it.
func (n *name) UnmarshalJSON(text []byte) error {
	var s string
	if json.Unmarshal(text, &s) == nil {
		*n = name(s)
		return nil
	}
	var o struct{ Bytes []byte }
	if err := json.Unmarshal(text, &o); err != nil {
		return err
	}
	*n = name(o.Bytes)
	return nil
}

// jsonEntry is an entry as it is written.
type jsonEntry struct {
	Kind string `json:"kind"`
	Size int64  `json:"size,omitempty"`
	Time int64  `json:"time,omitempty"`
	Nano uint32 `json:"nano,omitempty"`
	Mode string `json:"mode,omitempty"`
	UID  *int64 `json:"uid,omitempty"`
	GID  *int64 `json:"gid,omitempty"`
	Link name   `json:"link,omitempty"`
}

func entryJSON(e ends.Entry) *jsonEntry {
	if e.Kind == ends.None {
		return nil
	}
	j := &jsonEntry{Kind: e.Kind.String(), Size: e.Size, Time: e.Time, Nano: e.Nano, Mode: fmt.Sprintf("%04o", e.Mode), Link: name(e.Link)}
	if e.Owned {
		uid, gid := int64(e.UID), int64(e.GID)
		j.UID, j.GID = &uid, &gid
	}
	return j
}

func (j *jsonEntry) entry() (e ends.Entry, err error) {
	if j == nil {
		return e, nil
	}
	kinds := []ends.Kind{ends.File, ends.Folder, ends.Link, ends.Other}
	i := slices.IndexFunc(kinds, func(k ends.Kind) bool { return k.String() == j.Kind })
	if i < 0 || j.Size < 0 || j.Nano > 999_999_999 {
		return e, fmt.Errorf("%q of %d bytes is nothing that a plan has", j.Kind, j.Size)
	}
	e = ends.Entry{Kind: kinds[i], Size: j.Size, Time: j.Time, Nano: j.Nano, Link: string(j.Link)}
	if _, err := fmt.Sscanf(j.Mode, "%o", &e.Mode); err != nil && j.Mode != "" || e.Mode > 0o7777 {
		return e, fmt.Errorf("%q is no mode", j.Mode)
	}
	if j.UID != nil && j.GID != nil {
		e.UID, e.GID, e.Owned = uint32(*j.UID), uint32(*j.GID), true
	}
	return e, nil
}

type jsonItem struct {
	Name   name       `json:"name"`
	Act    string     `json:"act"`
	Back   bool       `json:"back,omitempty"`
	Source name       `json:"source,omitempty"`
	New    *jsonEntry `json:"new,omitempty"`
	Old    *jsonEntry `json:"old,omitempty"`
	Why    string     `json:"why,omitempty"`
	Under  *Tally     `json:"under,omitempty"`
}

type jsonBatch struct {
	Path  name       `json:"folder"`
	Items []jsonItem `json:"items"`
}

// jsonPlan is a plan without its folders, which come behind.
type jsonPlan struct {
	Format  string    `json:"format"`
	Version int       `json:"version"`
	ID      string    `json:"id"`
	Made    time.Time `json:"made"`
	From    Place     `json:"from"`
	To      Place     `json:"to"`
	Rules   Rules     `json:"rules"`
	Same    int       `json:"same"`
	LeftOut int       `json:"left_out"`
}

// MarshalJSON writes the plan in the format of docs/cargo.md.
func (p *Plan) MarshalJSON() ([]byte, error) {
	var text bytes.Buffer
	err := p.WriteJSON(&text)
	return text.Bytes(), err
}

// WriteJSON writes the plan in the format of docs/cargo.md, folder by folder.
func (p *Plan) WriteJSON(w io.Writer) error {
	head, err := json.Marshal(jsonPlan{format, version, p.ID, p.Made, p.From, p.To, p.Rules, p.Same, p.LeftOut})
	if err != nil {
		return err
	}
	if _, err := fmt.Fprintf(w, "%s,\"folders\":[", head[:len(head)-1]); err != nil {
		return err
	}
	between := ""
	for path, items := range p.Folders() {
		text, err := json.Marshal(folderJSON(path, items))
		if err != nil {
			return err
		}
		if _, err := fmt.Fprintf(w, "%s%s", between, text); err != nil {
			return err
		}
		between = ","
	}
	_, err = io.WriteString(w, "]}")
	return err
}

func folderJSON(path string, items []Item) jsonBatch {
	jb := jsonBatch{Path: name(path)}
	for _, i := range items {
		item := jsonItem{Name: name(i.Name), Act: i.Act.String(), Back: i.Back, Source: name(i.Source), New: entryJSON(i.New), Why: i.Why}
		if i.Old != nil {
			item.Old = entryJSON(*i.Old)
		}
		if i.Under != (Tally{}) {
			item.Under = &i.Under
		}
		jb.Items = append(jb.Items, item)
	}
	return jb
}

// UnmarshalJSON reads a plan as [Plan.ReadJSON] does.
func (p *Plan) UnmarshalJSON(text []byte) error { return p.ReadJSON(bytes.NewReader(text)) }

// ReadJSON reads a plan, folder by folder, and fails where it holds what no plan may: paths that lead out
// of a tree, unknown acts, other versions.
func (p *Plan) ReadJSON(r io.Reader) error {
	in := json.NewDecoder(r)
	if t, err := in.Token(); err != nil || t != json.Delim('{') {
		return errors.Join(errNoPlan, err)
	}
	head := map[string]json.RawMessage{}
	var batches []Batch
	for in.More() {
		key, err := in.Token()
		if err != nil {
			return err
		}
		if key != "folders" {
			var value json.RawMessage
			if err := in.Decode(&value); err != nil {
				return err
			}
			head[fmt.Sprint(key)] = value
			continue
		}
		if batches, err = readFolders(in, batches); err != nil {
			return err
		}
	}
	if _, err := in.Token(); err != nil {
		return err
	}
	text, err := json.Marshal(head)
	if err != nil {
		return err
	}
	var j jsonPlan
	if err := json.Unmarshal(text, &j); err != nil {
		return err
	}
	if j.Format != format || j.Version != version {
		return fmt.Errorf("%q of version %d is no plan of cargo of version %d", j.Format, j.Version, version)
	}
	if !validID(j.ID) {
		return fmt.Errorf("%q is no name of a plan", j.ID)
	}
	if err := j.Rules.Check(); err != nil {
		return err
	}
	slices.SortStableFunc(batches, func(a, b Batch) int { return strings.Compare(a.Path, b.Path) }) // a folder before what is in it
	*p = Plan{ID: j.ID, Made: j.Made, From: j.From, To: j.To, Rules: j.Rules, Same: j.Same, LeftOut: j.LeftOut, Batches: batches}
	return nil
}

var errNoPlan = errors.New("it is no plan of cargo")

// readFolders reads the folders of a plan.
func readFolders(in *json.Decoder, batches []Batch) ([]Batch, error) {
	t, err := in.Token()
	if t == nil && err == nil {
		return batches, nil // null
	}
	if err != nil || t != json.Delim('[') {
		return nil, errors.Join(errNoPlan, err)
	}
	for in.More() {
		var jb jsonBatch
		if err := in.Decode(&jb); err != nil {
			return nil, err
		}
		b, err := jb.batch()
		if err != nil {
			return nil, fmt.Errorf("folder %q: %w", Say(string(jb.Path)), err)
		}
		batches = append(batches, b)
	}
	_, err = in.Token()
	return batches, err
}

// validID tells whether a text can be a plan's name: it is part of names of files.
func validID(id string) bool {
	for _, r := range id {
		if (r < 'a' || r > 'z') && (r < '0' || r > '9') {
			return false
		}
	}
	return len(id) >= 8 && len(id) <= 32
}

func (jb jsonBatch) batch() (Batch, error) {
	path := string(jb.Path)
	if path != cleaned(path) {
		return Batch{}, ends.ErrUnsafe
	}
	items := make([]Item, len(jb.Items))
	for i, ji := range jb.Items {
		var err error
		if items[i], err = ji.item(path); err != nil {
			return Batch{}, fmt.Errorf("%q: %w", Say(string(ji.Name)), err)
		}
	}
	return NewBatch(path, items), nil
}

func (ji jsonItem) item(folder string) (i Item, err error) {
	act := slices.Index(actNames[:], ji.Act)
	if act < 0 {
		return i, fmt.Errorf("%q is nothing that a plan does", ji.Act)
	}
	root := folder == "" && ji.Name == ""
	if !root && ends.Unsafe(string(ji.Name)) || ji.Source != "" && ends.Unsafe(string(ji.Source)) || ours(string(ji.Name)) {
		return i, ends.ErrUnsafe
	}
	i = Item{Name: string(ji.Name), Act: Act(act), Back: ji.Back, Source: string(ji.Source), Why: ji.Why}
	if i.New, err = ji.New.entry(); err != nil {
		return i, err
	}
	if ji.Old != nil {
		old, err := ji.Old.entry()
		if err != nil {
			return i, err
		}
		i.Old = &old
	}
	if ji.Under != nil {
		i.Under = *ji.Under
	}
	comes, there := i.New.Kind != ends.None, i.Old != nil
	if i.Act == Make && !comes || i.Act == Replace && !(comes && there) || i.Act == Settle && !(comes && there) || i.Act == Remove && !there {
		return i, fmt.Errorf("it says not what is to be done: %s needs what comes and what is there", i.Act)
	}
	return i, nil
}
