package book

import (
	"fmt"
	"slices"

	"meatus/core/sanitize"
	"meatus/core/tomltext"
)

// A table can be written in several ways (TOML 1.0): under a header of its own, [session.reef]; as an inline table under
// [session] or by its full name, reef = { host = "…" }; by dotted keys, session.reef.host = "…"; and its tunnels one by one,
// [[session.reef.tunnels]].

// named tells whether tables of that kind have names.
func named(kind string) bool {
	return slices.Contains(tableWords, kind) && kind != "defaults" && kind != "like" && kind != "fleet"
}

// assign takes a value that stands outside of any table, under its full name.
func (r *reader) assign(keys []tomltext.Word, v tomltext.Value, start int) {
	kind := keys[0].Text
	depth := 1
	if named(kind) {
		depth = 2
	}
	at := r.place(start + keys[len(keys)-1].From)
	defer func() { r.current = nil }()
	switch {
	case !slices.Contains(tableWords, kind):
		r.problem(at, fmt.Sprintf("%q stands before any table", sanitize.Line(kind, 40)), "put it under [defaults] or a session")
	case kind == "like" || kind == "fleet":
		r.assignList(keys, v, start)
	case len(keys) > depth:
		if r.current = r.known(keys[:depth]); r.current == nil || !r.implied[r.current] {
			r.open(keys[:depth], false, start)
			r.imply()
		}
		r.value(keys[depth:], v, start)
	case v.Kind() != tomltext.Table:
		r.unknownTable([]string{kind}, false, at)
	case len(keys) == depth:
		r.open(keys, false, start)
		r.inline(v, start)
	default:
		for more, value := range v.Pairs() {
			r.assign(append(keys[:len(keys):len(keys)], more...), value, start)
		}
	}
}

// assignList takes the tables of a list, like = [{ name = "gauge-*" }].
func (r *reader) assignList(keys []tomltext.Word, v tomltext.Value, start int) {
	if len(keys) > 1 || v.Kind() != tomltext.Array {
		r.unknownTable([]string{keys[0].Text}, false, r.place(start+keys[0].From))
		return
	}
	for item := range v.Items() {
		r.open(keys, true, start)
		if item.Kind() != tomltext.Table {
			r.spoil(r.problem(r.place(start+keys[0].From), fmt.Sprintf("a table is wanted in the list %s, not %s", keys[0].Text, item.Kind()), "write { … }"))
			continue
		}
		r.inline(item, start)
	}
}

// inline takes the values of an inline table for the current one.
func (r *reader) inline(v tomltext.Value, start int) {
	for keys, value := range v.Pairs() {
		r.value(keys, value, start)
	}
}

// imply notes that the current table has no header so far: one may follow, and more dotted keys.
func (r *reader) imply() {
	if r.current == nil || r.current.layer == BuiltIn {
		return
	}
	if r.implied == nil {
		r.implied = map[*table]bool{}
	}
	r.implied[r.current] = true
}

// known is the table that keys name, nil for one that has not been seen. Of likes and fleets it is the last.
func (r *reader) known(keys []tomltext.Word) *table {
	last := func(list []*table) *table {
		if len(list) == 0 {
			return nil
		}
		return list[len(list)-1]
	}
	name := keys[len(keys)-1].Text
	switch kind := keys[0].Text; {
	case named(kind) && len(keys) != 2, !named(kind) && len(keys) != 1:
		return nil
	case kind == "defaults":
		return r.defaults
	case kind == "site":
		return r.sites[name]
	case kind == "like":
		return last(r.likes)
	case kind == "fleet":
		return last(r.fleets)
	case kind == "session":
		return r.named[name]
	}
	return nil
}

// tunnelBlock is a tunnel that has a header of its own.
type tunnelBlock struct {
	tunnel Tunnel
	at     Place
	wrong  string // the first word that is no part of a tunnel, "" for none
}

// tunnelHeader begins a tunnel under a header of its own, [[session.reef.tunnels]].
func (r *reader) tunnelHeader(keys []tomltext.Word, start int) {
	of := keys[:len(keys)-1]
	at := r.place(start + keys[0].From)
	if r.current = r.known(of); r.current == nil {
		array := of[0].Text == "like" || of[0].Text == "fleet"
		r.open(of, array, start)
		r.imply()
	}
	t, f := r.current, settingNamed("tunnels")
	if t.layer == BuiltIn {
		return
	}
	r.block = &tunnelBlock{at: at}
	if f.in&(1<<t.layer) == 0 {
		r.unknownKey(t, "tunnels", at, f)
		return
	}
	i := slices.IndexFunc(t.seen, func(s seen) bool { return s.setting == f })
	switch {
	case i < 0:
		t.seen = append(t.seen, seen{f, at})
		if t.own.Extras == nil {
			t.own.Extras = &Extras{}
		}
		t.own.Tunnels = Value[[]Tunnel]{nil, t.says(at), true}
		t.blocks = true
	case !t.blocks:
		r.spoil(r.problem(at, fmt.Sprintf("\"tunnels\" is given twice, first on line %d", t.seen[i].at.Line), "keep one of them"))
	}
}

// blockValue takes a value of a tunnel under a header of its own.
func (r *reader) blockValue(keys []tomltext.Word, v tomltext.Value, start int) {
	if len(keys) == 1 && r.block.tunnel.take(keys[0].Text, v) {
		return
	}
	if r.block.wrong == "" {
		r.block.wrong, r.block.at = keys[0].Text, r.place(start+keys[0].From)
	}
}

// endBlock gives the tunnel that was read to its table.
func (r *reader) endBlock() {
	b, t := r.block, r.current
	if r.block = nil; b == nil {
		return
	}
	say := b.tunnel.wrong()
	switch {
	case b.wrong != "":
		say = fmt.Sprintf("%q is no part of a tunnel, or has a wrong value", sanitize.Line(b.wrong, 40))
	case !b.tunnel.whole():
		say = "it is no tunnel"
	}
	if say != "" {
		r.spoil(r.problem(b.at, "tunnels: "+say, tunnelHint))
	} else if t.blocks {
		t.own.Tunnels.V = append(t.own.Tunnels.V, b.tunnel)
	}
}
