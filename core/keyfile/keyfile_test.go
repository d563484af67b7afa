package keyfile

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"golang.org/x/crypto/ssh"

	"meatus/core/keyfile/pkcs8"
)

var made = sync.OnceValue(func() map[string]crypto.PrivateKey {
	r, err1 := rsa.GenerateKey(rand.Reader, 2048)
	e, err2 := ecdsa.GenerateKey(elliptic.P384(), rand.Reader)
	_, d, err3 := ed25519.GenerateKey(rand.Reader)
	if err := errors.Join(err1, err2, err3); err != nil {
		panic(err)
	}
	return map[string]crypto.PrivateKey{"RSA": r, "ECDSA": e, "Ed25519": d}
})

// must unwraps a call that a test needs to work.
func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

func encode(block *pem.Block) []byte { return pem.EncodeToMemory(block) }

// containers returns key in every container it can be in, by description. Those
// whose name ends in "locked" open with "tide".
func containers(key crypto.PrivateKey) map[string][]byte {
	pass := []byte("tide")
	out := map[string][]byte{
		"PKCS#8":        encode(&pem.Block{Type: "PRIVATE KEY", Bytes: must(x509.MarshalPKCS8PrivateKey(key))}),
		"PKCS#8 locked": encode(&pem.Block{Type: "ENCRYPTED PRIVATE KEY", Bytes: must(pkcs8.Seal(key, pass, pkcs8.Cost{Iterations: 100}))}),
		"bcrypt":        encode(must(ssh.MarshalPrivateKey(key, "warden of the bay"))),
	}
	if _, small := key.(ed25519.PrivateKey); small { // its derivation takes long, and is the same for all
		out["bcrypt locked"] = encode(must(ssh.MarshalPrivateKeyWithPassphrase(key, "", pass)))
	}
	var der []byte
	var label string
	switch k := key.(type) {
	case *rsa.PrivateKey:
		der, label = x509.MarshalPKCS1PrivateKey(k), "RSA PRIVATE KEY"
	case *ecdsa.PrivateKey:
		der, label = must(x509.MarshalECPrivateKey(k)), "EC PRIVATE KEY"
	default:
		return out
	}
	out[label] = encode(&pem.Block{Type: label, Bytes: der})
	//lint:ignore SA1019 old files in this form exist and have to be read
	out[label+" locked"] = encode(must(x509.EncryptPEMBlock(rand.Reader, label, der, pass, x509.PEMCipherAES256)))
	return out
}

func write(t *testing.T, text []byte, mode os.FileMode) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "key.pem")
	if err := os.WriteFile(path, text, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(path, mode); err != nil {
		t.Fatal(err)
	}
	return path
}

func TestEveryContainerIsRead(t *testing.T) {
	bits := map[string]int{"RSA": 2048, "ECDSA": 384, "Ed25519": 256}
	for kind, key := range made() {
		want := must(ssh.NewSignerFromKey(key)).PublicKey()
		for name, text := range containers(key) {
			locked := strings.HasSuffix(name, "locked")
			k, err := Read(write(t, text, 0o600))
			if err != nil {
				t.Errorf("%s in %s: %v", kind, name, err)
				continue
			}
			if k.Passphrase != locked || len(k.Faults) > 0 {
				t.Errorf("%s in %s: passphrase %v, faults %v", kind, name, k.Passphrase, k.Faults)
			}
			if k.Public != nil && (k.Kind != kind || k.Bits != bits[kind] || k.SHA256 != ssh.FingerprintSHA256(want) || k.MD5 != ssh.FingerprintLegacyMD5(want)) {
				t.Errorf("%s in %s: sheet %s %d %s %s", kind, name, k.Kind, k.Bits, k.SHA256, k.MD5)
			}
			if k.Public == nil && !locked {
				t.Errorf("%s in %s: no public key", kind, name)
			}
			var pass []byte
			if locked {
				pass = []byte("tide")
				if _, err := k.Signer([]byte("ebb")); !errors.Is(err, ErrPassphrase) {
					t.Errorf("%s in %s: wrong passphrase gave %v", kind, name, err)
				}
			}
			signer, err := k.Signer(pass)
			if err != nil || Fingerprint(signer.PublicKey()) != Fingerprint(want) {
				t.Errorf("%s in %s: signer %v", kind, name, err)
			}
		}
	}
}

func TestCommentIsShownWhereItCanBeKnown(t *testing.T) {
	for kind, key := range made() {
		k, err := Read(write(t, containers(key)["bcrypt"], 0o600))
		if err != nil || k.Comment != "warden of the bay" {
			t.Errorf("%s: comment %q, %v", kind, k.Comment, err)
		}
	}
	path := write(t, containers(made()["RSA"])["RSA PRIVATE KEY locked"], 0o600)
	pub := must(ssh.NewSignerFromKey(made()["RSA"])).PublicKey()
	line := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(pub))) + " by the \x1b[31mbay\n"
	if err := os.WriteFile(path+".pub", []byte(line), 0o644); err != nil {
		t.Fatal(err)
	}
	k, err := Read(path)
	if err != nil || k.SHA256 != Fingerprint(pub) || k.Comment != "by the [31mbay" {
		t.Errorf("from the public half: %q %q %v", k.SHA256, k.Comment, err)
	}
}

func TestPastedDamageIsReadWhereItsMeaningIsCertain(t *testing.T) {
	good := containers(made()["ECDSA"])["EC PRIVATE KEY"]
	cases := []struct {
		name, repair string
		text         []byte
	}{
		{"no last line break", "last line break", bytes.TrimRight(good, "\n")},
		{"foreign line ends", "line ends", bytes.ReplaceAll(good, []byte("\n"), []byte("\r\n"))},
		{"old foreign line ends", "line ends", bytes.ReplaceAll(good, []byte("\n"), []byte("\r"))},
		{"indented", "indented", bytes.ReplaceAll(good, []byte("\n"), []byte("\n    "))},
		{"one line", "line breaks were lost", bytes.ReplaceAll(good, []byte("\n"), []byte(" "))},
		{"byte order mark", "byte order mark", append([]byte("\xef\xbb\xbf"), good...)},
	}
	want := Fingerprint(must(ssh.NewSignerFromKey(made()["ECDSA"])).PublicKey())
	for _, c := range cases {
		k, err := Parse(c.text)
		if err != nil || k.SHA256 != want || !strings.Contains(strings.Join(k.Repairs, ","), c.repair) {
			t.Errorf("%s: %v, repairs %q", c.name, err, k.Repairs)
		}
	}
	if k, err := Parse(good); err != nil || len(k.Repairs) != 0 {
		t.Errorf("a sound key: %v, repairs %q", err, k.Repairs)
	}
	withCurve := append([]byte("-----BEGIN EC PARAMETERS-----\nBgUrgQQAIg==\n-----END EC PARAMETERS-----\n"), good...)
	if k, err := Parse(withCurve); err != nil || k.SHA256 != want {
		t.Errorf("key behind its curve: %v", err)
	}
}

func TestWhatIsNoPrivateKeyIsNamed(t *testing.T) {
	rsaKey := containers(made()["RSA"])["RSA PRIVATE KEY"]
	pub := must(ssh.NewSignerFromKey(made()["Ed25519"])).PublicKey()
	cases := []struct {
		name, say string
		text      []byte
	}{
		{"empty", "empty", nil},
		{"text", "no key", []byte("the tide waits for nobody\n")},
		{"public line", "public key", ssh.MarshalAuthorizedKey(pub)},
		{"public block", "public key", encode(&pem.Block{Type: "PUBLIC KEY", Bytes: []byte{1}})},
		{"certificate line", "certificate", []byte("ssh-ed25519-cert-v01@openssh.com AAAA\n")},
		{"certificate block", "certificate", encode(&pem.Block{Type: "CERTIFICATE", Bytes: []byte{1}})},
		{"cut before the end line", "cut short", rsaKey[:len(rsaKey)/2]},
		{"cut before the begin line", "cut short", rsaKey[200:]},
		{"cut inside", "cut short or damaged", encode(&pem.Block{Type: "RSA PRIVATE KEY", Bytes: []byte{0x30, 0x82, 0x04, 0xa4, 2, 1, 0}})},
		{"one program's own form", "one program's own", []byte("Harbour-User-Key-File-3: ssh-rsa\nEncryption: none\nPublic-Lines: 6\n")},
		{"another program's own form", "one program's own", []byte("---- BEGIN SSH2 ENCRYPTED PRIVATE KEY ----\nAAAA\n")},
		{"retired kind", "DSA", encode(&pem.Block{Type: "DSA PRIVATE KEY", Bytes: []byte{1}})},
	}
	for _, c := range cases {
		_, err := Parse(c.text)
		var not *NotAKey
		if !errors.As(err, &not) || !strings.Contains(not.Say, c.say) || not.Mend == "" {
			t.Errorf("%s: got %v, want it to say %q", c.name, err, c.say)
		}
	}
}

func TestAKeyOthersReachIsNeverHandedOut(t *testing.T) {
	text := containers(made()["Ed25519"])["bcrypt"]
	for mode, after := range map[os.FileMode]os.FileMode{0o644: 0o600, 0o640: 0o600, 0o660: 0o600, 0o444: 0o400, 0o604: 0o600, 0o755: 0o600} {
		path := write(t, text, mode)
		k, err := Read(path)
		if err != nil || k.SHA256 == "" {
			t.Fatalf("%o: the sheet could not be read: %v", mode, err)
		}
		var blocked *Blocked
		if _, err := k.Signer(nil); !errors.As(err, &blocked) || blocked.Fault.Flaw != OthersReach || !blocked.Fault.Mending {
			t.Errorf("%o: signer gave %v", mode, err)
		}
		access, err := Mend(path)
		if err != nil || access.Mode.Perm() != after || len(access.Faults) != 0 {
			t.Errorf("%o: mended to %o, want %o, faults %v, %v", mode, access.Mode.Perm(), after, access.Faults, err)
		}
		if again, _ := os.ReadFile(path); !bytes.Equal(again, text) {
			t.Errorf("%o: mending changed the text", mode)
		}
		if k, _ := Read(path); k != nil {
			if _, err := k.Signer(nil); err != nil {
				t.Errorf("%o: mended key is refused: %v", mode, err)
			}
		}
	}
}

func TestPlacesThatAreNotSafe(t *testing.T) {
	text := containers(made()["Ed25519"])["bcrypt"]
	flaw := func(a Access) (flaws []Flaw) {
		for _, f := range a.Faults {
			if f.Say == "" || f.Mend == "" {
				t.Errorf("%s: a fault without words: %+v", a.Path, f)
			}
			flaws = append(flaws, f.Flaw)
		}
		return flaws
	}
	path := write(t, text, 0o600)
	link := filepath.Join(filepath.Dir(path), "link.pem")
	if err := os.Symlink(path, link); err != nil {
		t.Fatal(err)
	}
	if k, err := Read(link); err != nil || len(flaw(k.Access)) != 1 || k.Faults[0].Flaw != SymbolicLink {
		t.Errorf("a symbolic link: %v %v", k.Faults, err)
	}
	loop := filepath.Join(filepath.Dir(path), "loop.pem")
	if err := os.Symlink(loop, loop); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]Flaw{loop: Unreadable, filepath.Dir(path): NotRegular, path + ".none": Missing, os.DevNull: NotRegular} {
		k, err := Read(name)
		var blocked *Blocked
		if !errors.As(err, &blocked) || blocked.Fault.Flaw != want {
			t.Errorf("%s: %v, faults %v", name, err, flaw(k.Access))
		}
	}
	if err := os.Chmod(filepath.Dir(path), 0o777); err != nil {
		t.Fatal(err)
	}
	if a := Inspect(path); len(flaw(a)) != 1 || a.Faults[0].Flaw != LooseFolder || a.Faults[0].Blocks {
		t.Errorf("a folder others write to: %v", a.Faults)
	}
	if err := os.Chmod(path, 0o200); err != nil {
		t.Fatal(err)
	}
	if a, err := Mend(path); err != nil || a.Mode.Perm() != 0o600 {
		t.Errorf("a key its owner may not read: %o, %v", a.Mode.Perm(), err)
	}
}

func TestMendChangesOnlyAKeyAndFollowsNoLink(t *testing.T) {
	key := containers(made()["Ed25519"])["bcrypt"]
	mode := func(path string) os.FileMode { info, _ := os.Stat(path); return info.Mode().Perm() }
	for name, text := range map[string][]byte{"notes": []byte("the tide is at six\n"), "empty": nil, "public": []byte("ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAI tide")} {
		path := write(t, text, 0o644)
		if _, err := Mend(path); err == nil || mode(path) != 0o644 {
			t.Errorf("%s: %v, mode %04o", name, err, mode(path))
		}
	}
	if path := write(t, key[:len(key)/2], 0o644); true { // a damaged key is a secret, too
		if _, err := Mend(path); err != nil || mode(path) != 0o600 {
			t.Errorf("a damaged key: %v, mode %04o", err, mode(path))
		}
	}
	path := write(t, key, 0o644)
	link := filepath.Join(t.TempDir(), "link.pem")
	if err := os.Symlink(path, link); err != nil {
		t.Fatal(err)
	}
	a, err := Mend(link)
	if err == nil || mode(path) != 0o644 {
		t.Errorf("a link: %v, mode %04o", err, mode(path))
	}
	if fault, ok := a.Blocked(); !ok || fault.Mending || !strings.Contains(fault.Mend, path) {
		t.Errorf("what is said of a link to a key that others can read: %+v", fault)
	}
}

func TestAnotherOwnersKeyIsRefused(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Log("only the superuser can give a file away; the rule is tested where it is")
		return
	}
	path := write(t, containers(made()["Ed25519"])["bcrypt"], 0o600)
	if err := os.Chown(path, 65534, 65534); err != nil {
		t.Fatal(err)
	}
	if fault, stopped := Inspect(path).Blocked(); !stopped || fault.Flaw != ForeignOwner {
		t.Errorf("got %v", fault)
	}
}

func TestLargeFilesAreNotRead(t *testing.T) {
	path := write(t, nil, 0o600)
	if err := os.Truncate(path, 1<<30); err != nil {
		t.Fatal(err)
	}
	var not *NotAKey
	if _, err := Read(path); !errors.As(err, &not) {
		t.Errorf("got %v", err)
	}
}

func FuzzParse(f *testing.F) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		f.Fatal(err)
	}
	for _, text := range containers(key) {
		f.Add(text)
		f.Add(text[:len(text)*2/3])
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		k, err := Parse(text)
		if err == nil && k.Public == nil && !k.Passphrase {
			t.Error("a key was accepted of which nothing is known")
		}
	})
}
