package cargo

import (
	"bytes"
	"context"
	"io"
	"math/rand/v2"

	"meatus/core/cargo/ends"
)

// Where no digest can be had without reading every file back, some files of each batch are read back in part. If one of
// them differs, whole files are compared from then on.

// Bounds of the samples.
const (
	sampleShare  = 8  // one file of so many
	sampleLeast  = 16 // files of a batch, if it has as many
	samplePieces = 4  // of each file: its first, its last, and others at random
)

// sample reads parts of some files of a batch at both ends, and returns how many files it compared. same is false where
// one differs.
func (c *Carry) sample(ctx context.Context, batch []*job) (read int, same bool, err error) {
	if c.options.Proof == ProveNought {
		return 0, true, nil
	}
	for _, i := range rand.Perm(len(batch))[:min(len(batch), max(sampleLeast, len(batch)/sampleShare))] {
		j := batch[i]
		if j.New.Size == 0 {
			continue
		}
		differs := false
		err := c.insist(ctx, func() (err error) {
			differs, err = c.sampleFile(ctx, j)
			return err
		})
		switch {
		case ctx.Err() != nil:
			return read, true, ctx.Err()
		case isGone(err):
			return read, true, err
		case err != nil: // what cannot be read back is not as it should be
			differs = true
		}
		if read++; differs {
			return read, false, nil
		}
	}
	return read, true, nil
}

// sampleFile tells whether pieces of what was written differ from the source.
func (c *Carry) sampleFile(ctx context.Context, j *job) (differs bool, err error) {
	source, target := c.source(j.Item), c.target(j.Item)
	for _, at := range samplePlaces(j.New.Size, int64(c.piece())) {
		n := min(int64(c.piece()), j.New.Size-at)
		want, err := readPiece(ctx, source, j.sourcePath(), at, n)
		if err != nil {
			return false, err
		}
		got, err := readPiece(ctx, target, j.part, at, n)
		if err != nil {
			return false, err
		}
		if !bytes.Equal(got, want) {
			return true, nil
		}
	}
	return false, nil
}

// samplePlaces is where the pieces begin that are read of a file.
func samplePlaces(size, piece int64) []int64 {
	if size <= samplePieces*piece {
		var all []int64
		for at := int64(0); at < size; at += piece {
			all = append(all, at)
		}
		return all
	}
	places := []int64{0, size - piece}
	for len(places) < samplePieces {
		places = append(places, rand.Int64N(size-piece))
	}
	return places
}

// readPiece reads a part of a file. What is there is shorter where the file is.
func readPiece(ctx context.Context, end ends.End, name string, at, n int64) ([]byte, error) {
	f, err := end.Open(ctx, name)
	if err != nil {
		return nil, err
	}
	b := make([]byte, n)
	got, err := f.ReadAt(b, at)
	if closing := f.Close(); int64(got) == n || err == io.EOF {
		err = closing
	}
	return b[:got], err
}
