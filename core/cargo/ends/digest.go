package ends

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"golang.org/x/sync/errgroup"

	"meatus/core/remote"
)

// Digest has the files' digests told by a command over there or by the file-transfer channel, or where
// neither does reads them over the line.
func (t *There) Digest(ctx context.Context, names []string, each func(string, Sum, error)) error {
	if !t.known().digest {
		return t.askDigests(ctx, names, each)
	}
	for len(names) > 0 {
		n, bytes := 0, 0
		for n < len(names) && n < maxBatch && bytes < maxBatchBytes {
			bytes += len(names[n])
			n++
		}
		if err := t.digestBatch(ctx, names[:n], each); err != nil {
			return err
		}
		names = names[n:]
	}
	return nil
}

// The extension by which a server tells digests (draft-ietf-secsh-filexfer-extensions-00, section 3), and
// what it calls ours.
const (
	checkFile = "check-file"
	ourDigest = "sha256"
)

// tellsDigests tells whether the file-transfer channel tells digests. Not every server that does says so
// from the start: one that has no such commands either is asked once.
func (t *There) tellsDigests() bool {
	t.digests.Do(func() {
		c, err := t.take()
		if err != nil {
			return
		}
		_, tells := c.files.HasExtension(checkFile)
		t.tells.Store(tells)
		t.give(c)
		if tells || c.shell || t.known().digest {
			return
		}
		ctx, cancel := context.WithTimeout(t.ctx, maxProbe)
		defer cancel()
		_, err = t.askDigest(ctx, "") // a folder, which is refused in another way than a request that nobody knows
		var refused *remote.Refused
		t.tells.Store(err == nil || errors.Is(err, fs.ErrPermission) || errors.As(err, &refused) && refused.Code != unsupported)
	})
	return t.tells.Load()
}

// emptySum is the digest of nothing, which servers refuse to tell.
var emptySum = Sum(sha256.Sum256(nil))

// unsupported is the status of a request that a server does not know (section 7 of the draft).
const unsupported = 8

// maxProbe is how long a server may take to say what it knows.
const maxProbe = 20 * time.Second

// maxDigest is how long a server may take for one file's digest, or one command of many files.
const maxDigest = time.Hour

// manyDigests is how many files a server is asked for the digest of at once.
const manyDigests = 8

// askDigests asks for each file's digest over the file-transfer channel, or reads it over the line.
func (t *There) askDigests(ctx context.Context, names []string, each func(string, Sum, error)) error {
	can := t.tellsDigests()
	sums, errs := make([]Sum, len(names)), make([]error, len(names))
	var g errgroup.Group
	g.SetLimit(manyDigests)
	if !can {
		g.SetLimit(1) // reading has many pieces under way
	}
	for i, name := range names {
		g.Go(func() error {
			err := errors.ErrUnsupported
			if can {
				sums[i], err = t.askDigest(ctx, name)
			}
			if err != nil && !t.Lost(err) && ctx.Err() == nil {
				sums[i], err = ReadSum(ctx, t, name)
				if err == nil && sums[i] != emptySum { // it could be read, and there are no digests after all
					t.tells.Store(false)
				}
			}
			errs[i] = err
			if t.Lost(err) {
				return err
			}
			return ctx.Err()
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	for i, name := range names {
		each(name, sums[i], errs[i])
	}
	return nil
}

// askDigest asks for one file's digest over the file-transfer channel.
func (t *There) askDigest(ctx context.Context, name string) (Sum, error) {
	c, err := t.take()
	if err != nil {
		return Sum{}, err
	}
	t.give(c) // it may take long, and says nothing meanwhile
	ctx, cancel := context.WithTimeout(ctx, maxDigest)
	defer cancel()
	ask := remote.AppendText(remote.AppendText(nil, t.at(name)), ourDigest)
	ask = binary.BigEndian.AppendUint64(ask, 0) // from the beginning
	ask = binary.BigEndian.AppendUint64(ask, 0) // to the end
	ask = binary.BigEndian.AppendUint32(ask, 0) // in one block
	answer, err := c.extended.Ask(ctx, checkFile+"-name", ask)
	var refused *remote.Refused
	switch {
	case errors.As(err, &refused):
		return Sum{}, err
	case err != nil:
		return Sum{}, judged(err)
	}
	return sumOf(answer)
}

// sumOf is the digest that a server's answer tells: the name of the algorithm, before which some say the
// extension's once more, and the digest.
func sumOf(answer []byte) (sum Sum, err error) {
	algorithm, rest, ok := remote.CutText(answer)
	if algorithm == checkFile {
		algorithm, rest, ok = remote.CutText(rest)
	}
	if !ok || algorithm != ourDigest || len(rest) < len(sum) {
		return sum, fmt.Errorf("the far side's digest is none of ours: %q", cmp.Or(algorithm, "nothing"))
	}
	return Sum(rest[:len(sum)]), nil
}
