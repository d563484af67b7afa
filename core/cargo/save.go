package cargo

import (
	"encoding/json"
	"fmt"
	"os"

	"meatus/core/atomicfile"
)

// Save writes a plan to a file.
func (p *Plan) Save(path string) error {
	text, err := json.MarshalIndent(p, "", " ")
	if err != nil {
		return err
	}
	return atomicfile.Write(path, append(text, '\n'))
}

// maxPlan is how long a saved plan may be, in bytes.
const maxPlan = 4 << 30

// ReadPlan reads a plan from a file.
func ReadPlan(path string) (*Plan, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.Size() > maxPlan {
		return nil, fmt.Errorf("%s is too long for a plan", path)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	p := &Plan{}
	if err := json.Unmarshal(text, p); err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return p, nil
}
