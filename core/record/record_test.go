package record

import (
	"context"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"
)

// kept is a record in memory.
type kept []Entry

func (k *kept) append(d Done) {
	body, err := json.Marshal(d)
	if err != nil {
		panic(err)
	}
	before := ""
	if len(*k) > 0 {
		before = (*k)[len(*k)-1].Digest
	}
	number := int64(len(*k) + 1)
	*k = append(*k, Entry{number, string(body), Digest(before, number, string(body))})
}

func (k kept) read(_ context.Context, from int64, most int) ([]Entry, error) {
	i := slices.IndexFunc(k, func(e Entry) bool { return e.Number >= from })
	if i < 0 {
		return nil, nil
	}
	return k[i:min(i+most, len(k))], nil
}

func long(n int) (k kept) {
	for i := range n {
		k.append(Done{What: "opened", Person: []string{"mira", "anni"}[i%2], Machine: []string{"reef", "quay", "shoal"}[i%3]})
	}
	return k
}

func TestAChangedRecordDoesNotVerify(t *testing.T) {
	whole := long(2*Piece + 3)
	head, err := Verify(t.Context(), whole.read, Head{})
	if err != nil || head.Number != int64(len(whole)) {
		t.Fatalf("%v %v", head, err)
	}
	early := Head{7, whole[6].Digest}
	for name, c := range map[string]struct {
		change func(k kept) kept
		kept   Head
		at     int64
	}{
		"a changed text":          {func(k kept) kept { k[9].Body = strings.Replace(k[9].Body, "anni", "mira", 1); return k }, Head{}, 10},
		"an entry taken out":      {func(k kept) kept { return slices.Delete(k, Piece, Piece+1) }, Head{}, Piece + 1},
		"the end cut off":         {func(k kept) kept { return k[:Piece] }, head, Piece + 1},
		"everything cut off":      {func(k kept) kept { return nil }, early, 1},
		"all of it written anew":  {func(kept) kept { k := kept{}; k.append(Done{What: "left"}); return append(k, long(0)...) }, Head{1, whole[0].Digest}, 1},
		"nothing, the head known": {func(k kept) kept { return k }, early, 0},
	} {
		_, err := Verify(t.Context(), c.change(slices.Clone(whole)).read, c.kept)
		var tampered *Tampered
		if !errors.As(err, &tampered) && c.at > 0 || c.at > 0 && tampered.Number != c.at || c.at == 0 && err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestEntriesAreChosen(t *testing.T) {
	whole := long(Piece + 12)
	reads := 0
	read := func(ctx context.Context, from int64, most int) ([]Entry, error) {
		reads++
		return whole.read(ctx, from, most)
	}
	numbers := func(f Filter) (all []int64) {
		list, err := f.Choose(t.Context(), read, int64(len(whole)))
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range list {
			all = append(all, c.Number)
		}
		return all
	}
	if got := numbers(Filter{Last: 3}); !slices.Equal(got, []int64{1010, 1011, 1012}) || reads != 1 {
		t.Errorf("%v in %d reads", got, reads)
	}
	if got := numbers(Filter{Last: 2, Person: "anni", Machine: "reef"}); !slices.Equal(got, []int64{1006, 1012}) {
		t.Errorf("%v", got)
	}
	if got := numbers(Filter{}); len(got) != len(whole) {
		t.Errorf("%d", len(got))
	}
	whole[3].Body = "{"
	if _, err := (Filter{}).Choose(t.Context(), read, 0); err == nil || !strings.Contains(err.Error(), "entry 4") {
		t.Error(err)
	}
}

func TestAHeadIsSigned(t *testing.T) {
	_, private, _ := ed25519.GenerateKey(nil)
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		t.Fatal(err)
	}
	_, other, _ := ed25519.GenerateKey(nil)
	stranger, _ := ssh.NewSignerFromKey(other)
	k := long(3)
	head := Head{3, k[2].Digest}
	text, err := head.Sign(signer)
	if err != nil {
		t.Fatal(err)
	}
	read, err := ParseKept(text)
	if err != nil || read.Head != head || read.Check(signer.PublicKey()) != nil {
		t.Errorf("%v %v", read, err)
	}
	if read.Check(stranger.PublicKey()) == nil {
		t.Error("another key's signature holds")
	}
	bare, err := ParseKept(head.String())
	if err != nil || bare.Check(signer.PublicKey()) == nil {
		t.Errorf("%v", err)
	}
	moved, err := ParseKept("2" + strings.TrimPrefix(text, "3"))
	if err != nil || moved.Check(signer.PublicKey()) == nil {
		t.Errorf("%v", err)
	}
	for _, broken := range []string{"", "3", "3:", "x:" + head.Digest, "-1:" + head.Digest, "3:" + head.Digest[1:]} {
		if _, err := ParseKept(broken); err == nil {
			t.Errorf("%q is taken", broken)
		}
	}
}
