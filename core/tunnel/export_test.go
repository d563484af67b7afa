package tunnel

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"strings"
	"testing"
	"time"
)

func TestFlowsAreWrittenForOtherPrograms(t *testing.T) {
	at := time.Date(2026, 10, 12, 9, 30, 0, 0, time.UTC)
	seen := []Seen{{Program: Program{PID: 7}, Flows: []SeenFlow{
		{Flow: Flow{From: "127.0.0.1:40000", Program: "psql, \"x\"", To: "=cmd()\x1b[31m", Began: at, Last: at.Add(time.Second), In: 1 << 40, Out: 3}, Session: "tide-db", Listener: "127.0.0.1:15432"},
	}}, {Program: Program{PID: 8}}}
	flows := Export(seen)
	var out bytes.Buffer
	if err := WriteFlows(&out, flows, "csv"); err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(&out).ReadAll()
	if err != nil || len(rows) != 2 || strings.Join(rows[1], "|") != "7|tide-db|127.0.0.1:15432|127.0.0.1:40000|psql, \"x\"|'=cmd()[31m|2026-10-12T09:30:00Z|2026-10-12T09:30:01Z|1099511627776|3" {
		t.Errorf("%v, %v", rows, err)
	}
	out.Reset()
	if err := WriteFlows(&out, flows, "json"); err != nil {
		t.Fatal(err)
	}
	var again []Exported
	if err := json.Unmarshal(out.Bytes(), &again); err != nil || len(again) != 1 || again[0] != flows[0] {
		t.Errorf("%+v, %v", again, err)
	}
	out.Reset()
	if err := WriteFlows(&out, Export(nil), "json"); err != nil || out.String() != "[]\n" {
		t.Errorf("nothing is %q, %v", out.String(), err)
	}
	if err := WriteFlows(&out, flows, "xml"); err == nil {
		t.Error("there is a format that there is not")
	}
}
