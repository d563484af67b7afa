package book

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"meatus/core/bounded"
	"meatus/core/sanitize"
	"meatus/core/words"
)

// Columns are the columns of an exported list, and the fields of its JSON
// objects: the name, and every key of a session.
func Columns() []string { return append([]string{"name"}, Fields...) }

// Export writes every session as it stands in the file, with the values it says
// itself, behind the tables that give it others: those rows are named "defaults", "site NAME"
// and "like PATTERN". Where effective is set it is the sessions alone, with all their values.
// format is "csv" (RFC 4180, with a header) or "json" (an array of objects, RFC 8259).
func (b *Book) Export(w io.Writer, format string, effective bool) error {
	var rows []map[string]string
	if !effective {
		b = b.Unbound() // what instances give stands in no file
		rows = b.tableRows()
	}
	for _, s := range b.Sessions {
		values := map[string]string{"name": s.Name}
		for _, key := range Fields {
			if value, origin := s.Text(key); effective || origin.Layer() == InSession {
				values[key] = value
			}
		}
		rows = append(rows, values)
	}
	switch format {
	case "csv":
		out := csv.NewWriter(w)
		out.Write(Columns())
		for _, row := range rows {
			var cells []string
			for _, c := range Columns() {
				cells = append(cells, row[c])
			}
			out.Write(cells)
		}
		out.Flush()
		return out.Error()
	case "json":
		all := []map[string]any{}
		for _, row := range rows {
			object := map[string]any{}
			for key, value := range row {
				switch {
				case value == "":
				case settingNamed(key).list:
					object[key] = strings.Split(value, ", ")
				case key == "port":
					object[key] = json.Number(value)
				default:
					object[key] = value
				}
			}
			all = append(all, object)
		}
		encoder := json.NewEncoder(w)
		encoder.SetIndent("", "  ")
		encoder.SetEscapeHTML(false)
		return encoder.Encode(all)
	}
	return fmt.Errorf("unknown format %q; the formats are csv and json", sanitize.Line(format, 20))
}

// tableRows are the tables that give sessions values, as rows.
func (b *Book) tableRows() []map[string]string {
	var rows []map[string]string
	add := func(t Table) {
		own, ok := b.Own(t)
		values := map[string]string{"name": t.rowName()}
		for _, key := range FieldsOf(t.Layer) {
			if value, origin := own.Text(key); key != "name" && origin.Layer() != BuiltIn {
				values[key] = value
			}
		}
		if ok && (len(values) > 1 || t.Layer == InSite && !b.usedOnly(t.Name)) {
			rows = append(rows, values)
		}
	}
	add(Table{Layer: InDefaults})
	for _, site := range b.sites {
		add(Table{Layer: InSite, Name: site})
	}
	for i, like := range b.far.likes {
		add(Table{InLike, like.name, i})
	}
	return rows
}

// rowName is what a table is called in a list.
func (t Table) rowName() string {
	switch t.Layer {
	case InDefaults:
		return "defaults"
	case InSession:
		return t.Name
	}
	return layerWords[t.Layer] + " " + t.Name
}

// tableOf is the table that a list calls by a name; of a like it is not known which of several
// of that pattern.
func tableOf(name string) Table {
	kind, of, two := strings.Cut(name, " ")
	switch {
	case name == "defaults":
		return Table{Layer: InDefaults}
	case two && kind == layerWords[InSite]:
		return Table{Layer: InSite, Name: of}
	case two && kind == layerWords[InLike]:
		return Table{Layer: InLike, Name: of}
	}
	return Table{Layer: InSession, Name: name}
}

// Row is one session of an imported list, or a table that gives sessions values: its values as
// a person writes them.
type Row struct {
	Line   int    // of a CSV file; for JSON, which object, from 1
	Name   string // as [Book.Export] gives it
	Values map[string]string
}

// ReadRows reads a list as [Book.Export] writes it; columns may be in any order,
// and may be missing but for the name. It fails with where and what.
func ReadRows(r io.Reader, format string) ([]Row, error) {
	text, err := bounded.Read(r, maxFile)
	if err != nil {
		return nil, fmt.Errorf("the list cannot be read: %w", err)
	}
	switch format {
	case "csv":
		return readCSV(text)
	case "json":
		return readJSON(text)
	}
	return nil, fmt.Errorf("unknown format %q; the formats are csv and json", sanitize.Line(format, 20))
}

func checkColumns(names []string, where string) error {
	known := Columns()
	for _, name := range names {
		if !slices.Contains(known, name) {
			hint := meant(name, known)
			if hint == "" {
				hint = "known: " + strings.Join(known, ", ")
			}
			return fmt.Errorf("%s: there is no column %q; %s", where, sanitize.Line(name, 40), hint)
		}
	}
	return nil
}

func readCSV(text []byte) ([]Row, error) {
	in := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(text, []byte("\xef\xbb\xbf"))))
	header, err := in.Read()
	if errors.Is(err, io.EOF) {
		return nil, errors.New("the list is empty; its first line names the columns")
	}
	if err != nil {
		return nil, err
	}
	if err := checkColumns(header, "line 1"); err != nil {
		return nil, err
	}
	if !slices.Contains(header, "name") {
		return nil, errors.New("line 1: the column name is missing")
	}
	var rows []Row
	for {
		cells, err := in.Read()
		if errors.Is(err, io.EOF) {
			return rows, nil
		}
		if err != nil {
			return nil, err
		}
		line, _ := in.FieldPos(0)
		row := Row{Line: line, Values: map[string]string{}}
		for i, c := range cells {
			if header[i] == "name" {
				row.Name = strings.TrimSpace(c)
			} else if c = strings.TrimSpace(c); c != "" {
				row.Values[header[i]] = c
			}
		}
		rows = append(rows, row)
	}
}

func readJSON(text []byte) ([]Row, error) {
	var objects []map[string]any
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.UseNumber()
	if err := decoder.Decode(&objects); err != nil {
		return nil, fmt.Errorf("not a JSON array of objects: %s", sanitize.Line(err.Error(), 120))
	}
	var rows []Row
	for i, object := range objects {
		where := fmt.Sprintf("object %d", i+1)
		row := Row{Line: i + 1, Values: map[string]string{}}
		for key, value := range object {
			if err := checkColumns([]string{key}, where); err != nil {
				return nil, err
			}
			text, ok := jsonText(value)
			if !ok {
				return nil, fmt.Errorf("%s: %s is neither a text, a number nor a list of texts", where, key)
			}
			if key == "name" {
				row.Name = text
			} else if text != "" {
				row.Values[key] = text
			}
		}
		rows = append(rows, row)
	}
	return rows, nil
}

func jsonText(value any) (string, bool) {
	switch v := value.(type) {
	case string:
		return strings.TrimSpace(v), true
	case json.Number:
		return v.String(), true
	case nil:
		return "", true
	case []any:
		var parts []string
		for _, each := range v {
			s, ok := each.(string)
			if !ok {
				return "", false
			}
			parts = append(parts, s)
		}
		return strings.Join(parts, ", "), true
	}
	return "", false
}

// Import is what an imported list would do.
type Import struct {
	Add      []Row
	Change   []Row               // with the values that differ alone
	Was      map[string][]string // for each changed session, "key: old → new"
	Same     []string            // sessions that are as the list has them
	Alone    []string            // sessions the list does not name
	Mistakes []string            // why a row cannot be taken; nothing is then
}

// Compare finds what a list would add, change and leave alone. An empty cell
// leaves the value that is there. What would bring a mistake into the file is one of the list.
func (b *Book) Compare(rows []Row) Import {
	im := Import{Was: map[string][]string{}}
	seen := map[string]int{}
	for _, row := range rows {
		t := tableOf(row.Name)
		first, twice := seen[row.Name]
		seen[row.Name] = row.Line
		s, there := b.standing(t)
		mistake := ""
		switch {
		case t.Layer != InLike && t.Layer != InDefaults && !ValidName(t.Name):
			mistake = fmt.Sprintf("%q cannot be a %s's name; %s", sanitize.Line(t.Name, 40), layerWords[t.Layer], nameHint)
		case twice && t.Layer != InLike:
			mistake = fmt.Sprintf("%s was in row %d already", row.Name, first)
		case t.Layer == InSession && !there && row.Values["host"] == "" && row.Values["instance"] == "":
			mistake = row.Name + " has no host and no instance"
		case t.Layer != InSession:
			for key := range row.Values {
				if !slices.Contains(FieldsOf(t.Layer), key) {
					mistake = fmt.Sprintf("%s cannot give sessions a %s", t, key)
				}
			}
		}
		switch {
		case mistake != "":
			im.Mistakes = append(im.Mistakes, fmt.Sprintf("row %d: %s", row.Line, mistake))
		case !there:
			im.Add = append(im.Add, row)
		default:
			im.compare(row, s, t.Layer)
		}
	}
	for _, s := range b.Sessions {
		if _, ok := seen[s.Name]; !ok {
			im.Alone = append(im.Alone, s.Name)
		}
	}
	return im
}

// standing is what a table says now, and whether it is there.
func (b *Book) standing(t Table) (*Session, bool) {
	switch t.Layer {
	case InSession:
		s := b.Session(t.Name)
		return s, s != nil
	case InDefaults:
		own, _ := b.Own(t)
		return &own, b.far.defaults != nil
	case InSite:
		own, ok := b.Own(t)
		return &own, ok && !b.usedOnly(t.Name)
	}
	for i, like := range b.far.likes {
		if like.name == t.Name {
			own, _ := b.Own(Table{InLike, t.Name, i})
			return &own, true
		}
	}
	return nil, false
}

// compare finds what a row changes of what is there.
func (im *Import) compare(row Row, s *Session, layer Layer) {
	change := Row{row.Line, row.Name, map[string]string{}}
	for _, key := range FieldsOf(layer) {
		now, ok := row.Values[key]
		old, origin := s.Text(key)
		if ok && (now != old || origin.Layer() != layer) && literal(key, now) != literal(key, old) {
			change.Values[key] = now
			im.Was[row.Name] = append(im.Was[row.Name], fmt.Sprintf("%s: %s → %s", key, orNone(old), now))
		}
	}
	if len(change.Values) == 0 {
		im.Same = append(im.Same, row.Name)
	} else {
		im.Change = append(im.Change, change)
	}
}

// Try tells what would bring a mistake into the file at path, before anything is written: the
// import with that among its mistakes.
func (im Import) Try(path string) (Import, error) {
	text, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return im, err
	}
	name := filepath.Base(path)
	before := Parse(name, text)
	changed, err := im.into(before, bytes.Clone(text))
	if err != nil {
		im.Mistakes = append(im.Mistakes, err.Error())
		return im, nil
	}
	for _, p := range allFresh(before.Problems, Parse(name, changed).Problems) {
		say := join(p.Say, p.Hint)
		if p.Session != "" && !strings.Contains(say, p.Session) {
			say = p.Session + ": " + say
		}
		im.Mistakes = append(im.Mistakes, say)
	}
	return im, nil
}

// Acting is a value of an imported list that does something besides describing a machine.
type Acting struct {
	Session, Key, Value string
	Why                 string // what it does
}

// Acts are the values that act, lend or listen, or lead somewhere else.
func (im Import) Acts() []Acting {
	var all []Acting
	for _, row := range slices.Concat(im.Add, im.Change) {
		for _, key := range Fields {
			if why := Power(key, row.Values[key]); why != "" {
				all = append(all, Acting{row.Name, key, row.Values[key], why})
			}
		}
	}
	return all
}

// Tame is the import without those values.
func (im Import) Tame() Import {
	tame := func(rows []Row) []Row {
		var left []Row
		for _, row := range rows {
			values := map[string]string{}
			for key, value := range row.Values {
				if Power(key, value) == "" {
					values[key] = value
				}
			}
			left = append(left, Row{row.Line, row.Name, values})
		}
		return left
	}
	im.Add = tame(im.Add)
	im.Change = slices.DeleteFunc(tame(im.Change), func(r Row) bool { return len(r.Values) == 0 })
	return im
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

// Apply does what an import would do, as one edit of the file at path. It fails,
// leaving the file alone, where a row has a mistake or would bring one into the
// file.
func (im Import) Apply(path string) (*Book, error) {
	if len(im.Mistakes) > 0 {
		return nil, errors.New(im.Mistakes[0])
	}
	what := "importing " + words.Count(len(im.Add)+len(im.Change), "row")
	return Change(path, what, im.into)
}

// into is the text of a file with what the import does.
func (im Import) into(before *Book, text []byte) ([]byte, error) {
	text, err := im.changeIn(before, text)
	if err != nil {
		return nil, err
	}
	var added bytes.Buffer
	for _, row := range im.Add {
		if len(text) > 0 || added.Len() > 0 {
			added.WriteByte('\n')
		}
		t := tableOf(row.Name)
		switch t.Layer {
		case InDefaults:
			added.WriteString("[defaults]\n")
		case InLike:
			fmt.Fprintf(&added, "[[like]]\nname = %s\n", quote(t.Name))
		default:
			fmt.Fprintf(&added, "[%s.%s]\n", layerWords[t.Layer], keyText(t.Name))
		}
		for _, key := range FieldsOf(t.Layer) {
			if value := row.Values[key]; value != "" {
				fmt.Fprintf(&added, "%-4s = %s\n", key, literal(key, value))
			}
		}
	}
	if len(text) > 0 && !bytes.HasSuffix(text, []byte("\n")) {
		text = append(text, '\n')
	}
	return append(text, added.Bytes()...), nil
}

// changeIn changes the values of sessions that are there, each in its own part of
// the text, so that the cost does not grow with the square of their number.
func (im Import) changeIn(before *Book, text []byte) ([]byte, error) {
	if len(im.Change) == 0 {
		return text, nil
	}
	wanted := map[string]Row{}
	for _, row := range im.Change {
		t := tableOf(row.Name)
		if t.Layer == InSession {
			wanted[row.Name] = row
			continue
		}
		if t.Layer == InLike { // the first of its pattern
			t.Nth = slices.IndexFunc(before.far.likes, func(like *table) bool { return like.name == t.Name })
		}
		for _, key := range FieldsOf(t.Layer) {
			if value, set := row.Values[key]; set {
				at, err := findTable(text, t)
				if err != nil {
					return nil, err
				}
				text = at.put(text, key, literal(key, value))
			}
		}
	}
	var out []byte
	parts, err := sessionParts(text)
	if err != nil {
		return nil, err
	}
	for _, part := range parts {
		row, ok := wanted[part.text]
		piece := bytes.Clone(text[part.From:part.To])
		for _, key := range Fields {
			if value, set := row.Values[key]; ok && set {
				t, err := findTable(piece, Table{Layer: InSession, Name: row.Name})
				if err != nil {
					return nil, err
				}
				piece = t.put(piece, key, literal(key, value))
			}
		}
		out = append(out, piece...)
	}
	return out, nil
}
