package draw

import (
	"bytes"
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"meatus/core/estate"
	"meatus/core/reach"
)

// wide is an estate of n instances in ten networks, with a group for each seventh of them that three rules let others in at.
func wide(n int) *estate.Snapshot {
	s := &estate.Snapshot{}
	for i := range 10 {
		s.Networks = append(s.Networks, estate.Network{ID: fmt.Sprint("n-", i), Name: fmt.Sprint("reach-", i), CIDRs: []netip.Prefix{netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 61, byte(i), 0}), 24)}})
	}
	for i := range 7 {
		tcp := func(port uint16, from string) estate.Rule {
			return estate.Rule{Inbound: true, Protocol: "tcp", From: port, To: port, CIDR: netip.MustParsePrefix(from)}
		}
		s.Groups = append(s.Groups, estate.Group{ID: fmt.Sprint("g-", i), Name: fmt.Sprint("role-", i), Rules: []estate.Rule{
			tcp(22, fmt.Sprintf("10.61.%d.1/32", i)), tcp(443, "0.0.0.0/0"), {Inbound: true, Protocol: "udp", To: 65535, Group: fmt.Sprint("g-", (i+1)%7)},
		}})
	}
	for i := range n {
		state := estate.Running
		if i%11 == 5 {
			state = estate.Stopped
		}
		one := estate.Instance{ID: fmt.Sprint("i-", i), Name: fmt.Sprintf("a-rather-long-name-of-a-machine-%d", i), State: state, Groups: []string{fmt.Sprint("g-", i%7)}, Addresses: []estate.Address{{IP: netip.AddrFrom4([4]byte{10, 61, byte(i % 10), byte(i/10 + 1)}), Network: fmt.Sprint("n-", i%10)}}}
		if i%50 == 0 {
			one.Addresses = append(one.Addresses, estate.Address{IP: netip.AddrFrom4([4]byte{203, 0, 113, byte(i / 50)}), Outside: true})
		}
		s.Instances = append(s.Instances, one)
	}
	return s
}

func drawing(n int) Estate {
	s := wide(n)
	return Estate{Title: "estate bay", At: time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC), Snapshot: s, Arrows: reach.NewJudge(s).Arrows()}
}

func apart(a, b rect) bool {
	return a.x+a.w <= b.x || b.x+b.w <= a.x || a.y+a.h <= b.y || b.y+b.h <= a.y
}

// Nothing of a drawn estate of 300 instances lies on anything else: no areas, no blocks, no lines of two.
func TestADrawnEstateDoesNotOverlap(t *testing.T) {
	e := drawing(300)
	l := e.lay()
	var boxes []rect
	lines := map[float64]string{}
	line := func(y float64, of string) {
		if other, taken := lines[y]; taken && other != of {
			t.Errorf("the lines of %s and %s are both at %.1f", of, other, y)
		}
		lines[y] = of
	}
	instances := 0
	for i, w := range l.whos {
		boxes = append(boxes, w.rect)
		line(w.y+grid, fmt.Sprint("who ", i))
		if w.lane <= w.x+w.w || w.lane >= l.areas[0].x-portW {
			t.Errorf("the lane of %d is at %.1f", i, w.lane)
		}
	}
	for _, a := range l.areas {
		boxes = append(boxes, a.rect)
		for n, b := range a.blocks {
			instances += len(b.all)
			if b.x < a.x || b.x+b.w > a.x+a.w || b.y < a.y || b.y+b.h > a.y+a.h {
				t.Errorf("block %d of %s stands out of it", n, a.name)
			}
			for _, other := range a.blocks[n+1:] {
				if !apart(b.rect, other.rect) {
					t.Errorf("blocks of %s overlap", a.name)
				}
			}
			if rows := float64((len(b.all)+perRow-1)/perRow)*cellH + grid; rows > b.h {
				t.Errorf("the instances of a block of %s do not fit it", a.name)
			}
			for k := range b.entries {
				line(b.y+grid+float64(k)*2*grid+grid/2, fmt.Sprintf("%s, block %d, entry %d", a.name, n, k))
			}
		}
	}
	for i, a := range boxes {
		if a.x < 0 || a.y < titleH || a.x+a.w > l.width || a.y+a.h > l.height-legendH {
			t.Errorf("box %d stands out of the sheet", i)
		}
		for k, b := range boxes[i+1:] {
			if !apart(a, b) {
				t.Errorf("boxes %d and %d overlap", i, i+1+k)
			}
		}
	}
	if instances != 300 {
		t.Errorf("%d of 300 instances are drawn", instances)
	}
}

func TestADrawnEstateIsWritten(t *testing.T) {
	e := drawing(300)
	w := reach.NewJudge(e.Snapshot)
	ways, _ := w.Ways(reach.Finding{To: w.Instance("i-50"), Port: reach.Port{Protocol: "tcp", Number: 443}, Means: func(*estate.Instance) reach.Means { return reach.Means{Session: "x"} }})
	if len(ways) == 0 {
		t.Fatal("there is no way")
	}
	e.Ways = ways[:1]
	for _, f := range []Format{SVG, PDF} {
		for _, private := range []bool{false, true} {
			e.Private = private
			var out bytes.Buffer
			if err := e.Write(&out, f); err != nil {
				t.Fatal(err)
			}
			if f != SVG {
				if !bytes.HasPrefix(out.Bytes(), []byte("%PDF")) {
					t.Error("it is no PDF")
				}
				continue
			}
			text := out.String()
			if shown := strings.Contains(text, "10.61."); shown == private {
				t.Errorf("private %v, and addresses are shown: %v", private, shown)
			}
			for _, want := range []string{"everybody, from outside", "udp", "tcp 443", "reach-9", "the way that is highlighted"} {
				if !strings.Contains(text, want) {
					t.Errorf("%q is not drawn", want)
				}
			}
		}
	}
	empty := Estate{Title: "empty", Snapshot: &estate.Snapshot{}}
	if err := empty.Write(&bytes.Buffer{}, SVG); err != nil {
		t.Error(err)
	}
	if err := empty.Write(&bytes.Buffer{}, "png"); err == nil {
		t.Error("a format that is none is written")
	}
}
