package book

import (
	"slices"
	"strings"
	"testing"
)

// Every setting that a sheet shows is explained, once, and its example can be set.
func TestEverySettingIsExplained(t *testing.T) {
	var seen []string
	at := 0
	for _, x := range explanations {
		if slices.Contains(seen, x.key) {
			t.Errorf("%s is explained twice", x.key)
		}
		seen = append(seen, x.key)
		part := slices.Index(Parts[:], x.Part)
		if part < at {
			t.Errorf("%s of %q stands behind %q", x.key, x.Part, Parts[at])
		}
		at = max(at, part)
		if !strings.HasSuffix(x.Says, ".") && !strings.HasSuffix(x.Says, ").") || len(strings.Fields(x.Says)) > 25 {
			t.Errorf("%s: %s", x.key, x.Says)
		}
		if HintOf(x.key) == "" {
			t.Errorf("nothing says what %s can be", x.key)
		}
	}
	b := &Book{}
	for _, layer := range []Layer{InDefaults, InSite, InLike, InSession} {
		of := Explained(layer)
		for _, key := range FieldsOf(layer) {
			if !slices.Contains(of, key) {
				t.Errorf("%s is not explained", key)
			}
			if e, _ := Explain(key); e.Example != "" && key != "via" && key != "site" && key != "lease" {
				if wrong := b.WrongValue(layer, key, e.Example); wrong != "" {
					t.Errorf("the example %q of %s: %s", e.Example, key, wrong)
				}
			}
		}
	}
	if _, ok := Explain("no-such"); ok {
		t.Error("what is no setting is explained")
	}
}
