package keyfile

import (
	"os"
	"testing"
)

// TestMain makes guessing passphrases cheap: the tests wrap and open keys hundreds of
// times. What is written for a person is looked at by [TestWhatIsWrittenIsDearToGuess].
func TestMain(m *testing.M) {
	pbkdf2Rounds = 1000
	os.Exit(m.Run())
}

func TestWhatIsWrittenIsDearToGuess(t *testing.T) {
	if d := (Derivation{Name: "PBKDF2", Rounds: usualRounds}); d.Weak() != "" || d.tooCostly() != nil {
		t.Errorf("%s: %s", d, d.Weak())
	}
}
