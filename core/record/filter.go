package record

import (
	"context"
	"encoding/json"
	"fmt"
)

// Filter chooses entries of a record. The zero value chooses all.
type Filter struct {
	Person  string // of one person alone, "" for all
	Machine string // of one machine alone, "" for all
	Last    int    // so many of the last, 0 for all
}

// Chosen is an entry with what it says.
type Chosen struct {
	Entry
	Done Done
}

// Choose returns the entries of a record that a filter wants, in order. length is how many entries there are: of a
// filter by number alone only the end is read.
func (f Filter) Choose(ctx context.Context, read Read, length int64) ([]Chosen, error) {
	var all []Chosen
	skipped := int64(0)
	if f.Last > 0 && f.Person == "" && f.Machine == "" {
		skipped = max(length-int64(f.Last), 0)
	}
	later := func(ctx context.Context, from int64, most int) ([]Entry, error) {
		return read(ctx, max(from, skipped+1), most)
	}
	err := Each(ctx, later, func(e Entry) error {
		d, err := e.Done()
		if err != nil {
			return err
		}
		if f.Person != "" && d.Person != f.Person || f.Machine != "" && d.Machine != f.Machine {
			return nil
		}
		all = append(all, Chosen{e, d})
		if f.Last > 0 && len(all) > f.Last {
			all = all[1:]
		}
		return nil
	})
	return all, err
}

// Done reads what an entry says.
func (e Entry) Done() (d Done, err error) {
	if err := json.Unmarshal([]byte(e.Body), &d); err != nil {
		return d, fmt.Errorf("entry %d cannot be read: %w", e.Number, err)
	}
	return d, nil
}
