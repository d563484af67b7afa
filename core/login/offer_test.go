package login

import (
	"crypto/rand"
	"crypto/rsa"
	"slices"
	"testing"

	"golang.org/x/crypto/ssh"

	"meatus/core/custody"
	"meatus/core/dial"
)

func TestRSAKeysAreOfferedByNameWhereTheServerAnnouncesNothing(t *testing.T) {
	var signers []custody.Signer
	for range 2 {
		key, err := rsa.GenerateKey(rand.Reader, 2048)
		if err != nil {
			t.Fatal(err)
		}
		s, err := ssh.NewSignerFromKey(key)
		if err != nil {
			t.Fatal(err)
		}
		signers = append(signers, custody.Signer{Signer: s})
	}
	for _, announces := range []bool{true, false} {
		conn := dial.NewConn(nil, false)
		o := newOffers(conn, signers)
		var got []string
		for o.more() {
			next := o.next()
			s := next.signer()
			algorithms := s.(ssh.MultiAlgorithmSigner).Algorithms()
			if slices.Contains(algorithms, ssh.KeyAlgoRSA) {
				t.Fatal("it may sign with SHA-1")
			}
			// The library sends nothing where the server announces nothing and the key goes by its own name.
			if name := s.PublicKey().Type(); announces || name != ssh.KeyAlgoRSA {
				conn.Out.Add(1)
				got = append(got, name)
				signature, err := s.(ssh.AlgorithmSigner).SignWithAlgorithm(rand.Reader, []byte("x"), algorithms[0])
				if err != nil || signers[next.key].PublicKey().Verify([]byte("x"), signature) != nil {
					t.Errorf("the signature by %s: %v", algorithms[0], err)
				}
			}
			o.asked()
		}
		want := []string{"ssh-rsa", "ssh-rsa"}
		if !announces {
			want = []string{"rsa-sha2-512", "rsa-sha2-256", "rsa-sha2-512", "rsa-sha2-256"}
		}
		if !slices.Equal(got, want) || o.left() != 0 {
			t.Errorf("announced %v: offered %q, want %q, %d left", announces, got, want, o.left())
		}
	}
}
