package cargo

import (
	"encoding/binary"
	"iter"

	"meatus/core/cargo/ends"
)

// A plan of a million names has to stay small, so a folder's items are kept as bytes, some thirty for each
// name beside the name itself, and made into values when they are looked at.

// Batch are the items of one folder, by name.
type Batch struct {
	Path   string
	packed []byte
	n      int
}

// NewBatch packs the items of a folder.
func NewBatch(path string, items []Item) Batch {
	b := Batch{Path: path, n: len(items)}
	buf := make([]byte, 0, 48*len(items))
	for i := range items {
		buf = appendItem(buf, &items[i])
	}
	b.packed = append([]byte(nil), buf...) // of its own length
	return b
}

// Len is how many items there are.
func (b Batch) Len() int { return b.n }

// Items are the items.
func (b Batch) Items() []Item {
	items := make([]Item, b.n)
	r := unpacker{b.packed}
	for i := range items {
		r.item(&items[i])
	}
	return items
}

// Folders goes through the folders that something is planned of, by path.
func (p *Plan) Folders() iter.Seq2[string, []Item] {
	return func(yield func(string, []Item) bool) {
		for _, b := range p.Batches {
			if !yield(b.Path, b.Items()) {
				return
			}
		}
	}
}

// What an item has, in its first byte behind the act.
const (
	hasBack = 1 << iota
	hasSource
	hasOld
	hasWhy
	hasUnder
)

func appendItem(b []byte, i *Item) []byte {
	var has byte
	for bit, set := range [...]bool{i.Back, i.Source != "", i.Old != nil, i.Why != "", i.Under != (Tally{})} {
		if set {
			has |= 1 << bit
		}
	}
	b = append(b, byte(i.Act), has)
	b = appendEntry(appendString(b, i.Name), &i.New)
	if i.Source != "" {
		b = appendString(b, i.Source)
	}
	if i.Old != nil {
		b = appendEntry(b, i.Old)
	}
	if i.Why != "" {
		b = appendString(b, i.Why)
	}
	if has&hasUnder != 0 {
		b = binary.AppendVarint(binary.AppendVarint(b, int64(i.Under.Names)), i.Under.Bytes)
	}
	return b
}

func appendString(b []byte, s string) []byte {
	return append(binary.AppendUvarint(b, uint64(len(s))), s...)
}

// ownerKnown is beside the kind of an entry whose owner is known.
const ownerKnown = 0x80

func appendEntry(b []byte, e *ends.Entry) []byte {
	kind := byte(e.Kind)
	if e.Owned {
		kind |= ownerKnown
	}
	b = append(b, kind)
	if e.Kind == ends.None {
		return b
	}
	b = binary.AppendVarint(b, e.Size)
	b = binary.AppendVarint(b, e.Time)
	b = binary.AppendUvarint(b, uint64(e.Nano))
	b = binary.AppendUvarint(b, uint64(e.Mode))
	if e.Owned {
		b = binary.AppendUvarint(binary.AppendUvarint(b, uint64(e.UID)), uint64(e.GID))
	}
	if e.Kind == ends.Link {
		b = appendString(b, e.Link)
	}
	return b
}

// unpacker reads what was packed.
type unpacker struct{ b []byte }

func (r *unpacker) byte() byte {
	b := r.b[0]
	r.b = r.b[1:]
	return b
}

func (r *unpacker) uint() uint64 {
	v, n := binary.Uvarint(r.b)
	r.b = r.b[n:]
	return v
}

func (r *unpacker) int() int64 {
	v, n := binary.Varint(r.b)
	r.b = r.b[n:]
	return v
}

func (r *unpacker) string() string {
	n := r.uint()
	s := string(r.b[:n])
	r.b = r.b[n:]
	return s
}

func (r *unpacker) item(i *Item) {
	i.Act = Act(r.byte())
	has := r.byte()
	i.Back = has&hasBack != 0
	i.Name = r.string()
	r.entry(&i.New)
	if has&hasSource != 0 {
		i.Source = r.string()
	}
	if has&hasOld != 0 {
		i.Old = &ends.Entry{}
		r.entry(i.Old)
	}
	if has&hasWhy != 0 {
		i.Why = r.string()
	}
	if has&hasUnder != 0 {
		i.Under = Tally{int(r.int()), r.int()}
	}
}

func (r *unpacker) entry(e *ends.Entry) {
	kind := r.byte()
	if e.Kind = ends.Kind(kind &^ ownerKnown); e.Kind == ends.None {
		return
	}
	e.Size, e.Time = r.int(), r.int()
	e.Nano, e.Mode = uint32(r.uint()), uint16(r.uint())
	if e.Owned = kind&ownerKnown != 0; e.Owned {
		e.UID, e.GID = uint32(r.uint()), uint32(r.uint())
	}
	if e.Kind == ends.Link {
		e.Link = r.string()
	}
}
