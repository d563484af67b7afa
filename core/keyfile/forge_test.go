package keyfile

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"encoding/asn1"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"meatus/core/keyfile/pkcs8"
)

// openssl runs the other implementation of these containers.
func openssl(t *testing.T, stdin []byte, args ...string) []byte {
	t.Helper()
	if _, err := exec.LookPath("openssl"); err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("openssl is not installed; scripts/test installs it")
		}
		t.Skip("openssl is not installed")
	}
	cmd := exec.Command("openssl", args...)
	cmd.Stdin = bytes.NewReader(stdin)
	var errs bytes.Buffer
	cmd.Stderr = &errs
	out, err := cmd.Output()
	if err != nil {
		t.Fatalf("openssl %v: %v\n%s", args, err, errs.String())
	}
	return out
}

var someKeys = map[string]crypto.PrivateKey{
	"RSA":     must(rsa.GenerateKey(rand.Reader, 2048)),
	"ECDSA":   must(ecdsa.GenerateKey(elliptic.P384(), rand.Reader)),
	"Ed25519": ed25519.NewKeyFromSeed(bytes.Repeat([]byte{7}, 32)),
}

func public(t *testing.T, key crypto.PrivateKey) ssh.PublicKey {
	t.Helper()
	return must(ssh.NewSignerFromKey(key)).PublicKey()
}

func TestWhatIsMadeIsPrivateFromTheStartAndOverwritesNothing(t *testing.T) {
	dir := t.TempDir()
	for _, f := range Forms {
		for _, bits := range f.Bits[:1] {
			key, err := Make(strings.ToLower(f.Kind), 0)
			if err != nil {
				t.Fatal(err)
			}
			path := filepath.Join(dir, f.Kind)
			if err := Write(path, key, Wrapping{Comment: "of the bay"}); err != nil {
				t.Fatal(err)
			}
			k, err := Read(path)
			if err != nil || k.Kind != f.Kind || k.Bits != bits || k.Passphrase || k.Comment != "of the bay" || len(k.Faults) > 0 && k.Faults[0].Blocks {
				t.Errorf("%s: %+v, %v", f.Kind, k.Sheet, err)
			}
			if info, _ := os.Stat(path); info.Mode().Perm() != 0o600 {
				t.Errorf("%s has mode %o", f.Kind, info.Mode())
			}
			line, _ := os.ReadFile(path + ".pub")
			if string(line) != PublicLine(k.Public, "of the bay") {
				t.Errorf("public half %q", line)
			}
			before, _ := os.ReadFile(path)
			if err := Write(path, key, Wrapping{}); !errors.Is(err, os.ErrExist) {
				t.Errorf("written over: %v", err)
			}
			os.Remove(path)
			if err := Write(path, key, Wrapping{}); !errors.Is(err, os.ErrExist) {
				t.Errorf("written over the public half: %v", err)
			}
			os.WriteFile(path, before, 0o600)
		}
	}
	for _, bad := range []struct {
		kind string
		bits int
	}{{"DSA", 0}, {"RSA", 1024}, {"ECDSA", 224}, {"", 0}} {
		if _, err := Make(bad.kind, bad.bits); err == nil {
			t.Errorf("made %+v", bad)
		}
	}
}

func TestKeysAreRewrappedBetweenOpenContainers(t *testing.T) {
	for kind, key := range someKeys {
		path := filepath.Join(t.TempDir(), "k")
		if err := Write(path, key, Wrapping{Comment: "kept"}); err != nil {
			t.Fatal(err)
		}
		var old []byte
		for _, w := range []Wrapping{
			{Container: PKCS8}, {Container: PKCS8, Passphrase: []byte("low tide")}, {Container: PKCS1}, {Container: SEC1},
			{Container: Bcrypt, Passphrase: []byte("high tide")}, {Container: Bcrypt, Comment: "anew"},
		} {
			err := Rewrap(path, old, w)
			if kind == "Ed25519" && (w.Container == PKCS1 || w.Container == SEC1) || kind == "RSA" && w.Container == SEC1 || kind == "ECDSA" && w.Container == PKCS1 {
				if err == nil {
					t.Errorf("%s in %s", kind, w.Container)
				}
				continue
			}
			if err != nil {
				t.Fatalf("%s to %s: %v", kind, w.Container, err)
			}
			old = w.Passphrase
			k, err := Read(path)
			if err != nil || k.Passphrase != (len(old) > 0) {
				t.Fatalf("%s as %s: %+v, %v", kind, w.Container, k.Sheet, err)
			}
			s, err := k.Signer(old)
			if err != nil || Fingerprint(s.PublicKey()) != Fingerprint(public(t, key)) {
				t.Errorf("%s as %s: %v", kind, w.Container, err)
			}
			if info, _ := os.Stat(path); info.Mode().Perm() != 0o600 {
				t.Errorf("mode %o", info.Mode())
			}
		}
		if err := Rewrap(path, nil, Wrapping{Container: PKCS1, Passphrase: []byte("x")}); err == nil {
			t.Error("a passphrase in PKCS#1")
		}
		Rewrap(path, nil, Wrapping{Passphrase: []byte("high tide")})
		before, _ := os.ReadFile(path)
		if err := Rewrap(path, []byte("wrong"), Wrapping{}); !errors.Is(err, ErrPassphrase) {
			t.Errorf("a wrong passphrase: %v", err)
		}
		if after, _ := os.ReadFile(path); !bytes.Equal(before, after) {
			t.Error("the file was changed")
		}
	}
}

func TestOpensslReadsWhatWeWriteAndWeWhatItWrites(t *testing.T) {
	for kind, key := range someKeys {
		dir := t.TempDir()
		want := Fingerprint(public(t, key))
		for name, w := range map[string]Wrapping{"plain": {Container: PKCS8}, "locked": {Container: PKCS8, Passphrase: []byte("low tide")}} {
			path := filepath.Join(dir, name)
			if err := Write(path, key, w); err != nil {
				t.Fatal(err)
			}
			again := openssl(t, nil, "pkey", "-in", path, "-passin", "pass:low tide")
			k, err := Parse(again)
			if err != nil || k.SHA256 != want {
				t.Errorf("%s %s through openssl: %v", kind, name, err)
			}
		}
		plain := must(os.ReadFile(filepath.Join(dir, "plain")))
		for _, args := range [][]string{
			{"pkcs8", "-topk8", "-v2", "aes-256-cbc", "-v2prf", "hmacWithSHA256", "-iter", "2048"},
			{"pkcs8", "-topk8", "-v2", "aes-128-cbc", "-v2prf", "hmacWithSHA1"},
			{"pkcs8", "-topk8", "-scrypt", "-scrypt_N", "1024"},
			{"pkey", "-traditional"},
		} {
			if kind == "Ed25519" && args[0] == "pkey" {
				continue // it has no older form
			}
			text := openssl(t, plain, append(args, "-passout", "pass:low tide")...)
			k, err := Parse(text)
			if err != nil {
				t.Errorf("%s by openssl %v: %v", kind, args, err)
				continue
			}
			got, err := k.private([]byte("low tide"))
			if err != nil || Fingerprint(public(t, got)) != want {
				t.Errorf("%s by openssl %v: %v", kind, args, err)
			}
			if k.Passphrase && k.Derivation.String() == "" {
				t.Errorf("%s by openssl %v: no derivation", kind, args)
			}
		}
	}
}

func TestFingerprintsAreThoseOthersCompute(t *testing.T) {
	key := someKeys["RSA"]
	path := filepath.Join(t.TempDir(), "k")
	if err := Write(path, key, Wrapping{Container: PKCS1}); err != nil {
		t.Fatal(err)
	}
	k := must(Read(path))
	got := map[string]string{}
	for _, p := range k.Prints(nil) {
		got[p.Name] = p.Value
	}
	digest := func(der []byte, name string) string {
		out := string(openssl(t, der, "dgst", "-"+name, "-c"))
		return strings.TrimSpace(out[strings.LastIndexByte(out, ' ')+1:])
	}
	spki := openssl(t, nil, "pkey", "-in", path, "-pubout", "-outform", "DER")
	pkcs8 := openssl(t, nil, "pkcs8", "-in", path, "-topk8", "-nocrypt", "-outform", "DER")
	if want := digest(spki, "md5"); got["MD5 DER"] != want {
		t.Errorf("MD5 DER is %s, want %s", got["MD5 DER"], want)
	}
	if want := digest(pkcs8, "sha1"); got["SHA1 DER"] != want {
		t.Errorf("SHA1 DER is %s, want %s", got["SHA1 DER"], want)
	}
	for _, same := range [][2]string{{got["MD5"], "MD5:" + strings.ToUpper(got["MD5"])}, {got["SHA256"], strings.TrimPrefix(got["SHA256"], "SHA256:") + "="}, {got["SHA1 DER"], strings.ReplaceAll(got["SHA1 DER"], ":", "")}} {
		if !SamePrint(same[0], same[1]) {
			t.Errorf("%q and %q are told apart", same[0], same[1])
		}
	}
	if SamePrint(got["MD5"], got["MD5 DER"]) || SamePrint("", "") {
		t.Error("different fingerprints are the same")
	}
}

func TestAPictureTellsKeysApart(t *testing.T) {
	a, b := Picture(public(t, someKeys["RSA"])), Picture(public(t, someKeys["Ed25519"]))
	if slices.Equal(a, b) || len(a) != 5 {
		t.Errorf("%q and %q", a, b)
	}
	for _, row := range a {
		letters := []rune(row)
		mirrored := slices.Clone(letters)
		slices.Reverse(mirrored)
		if len(letters) != 18 || string(mirrored) != row {
			t.Errorf("%q is not symmetric", row)
		}
	}
}

func TestAbsurdDerivationsAreRefusedAtOnce(t *testing.T) {
	key := someKeys["Ed25519"]
	locked := must(ssh.MarshalPrivateKeyWithPassphrase(key, "", []byte("x")))
	var o bcryptOuter
	if err := ssh.Unmarshal(locked.Bytes[len(bcryptMagic):], &o); err != nil {
		t.Fatal(err)
	}
	var opts struct {
		Salt   string
		Rounds uint32
	}
	if err := ssh.Unmarshal([]byte(o.KdfOpts), &opts); err != nil {
		t.Fatal(err)
	}
	opts.Rounds = 1 << 31
	o.KdfOpts = string(ssh.Marshal(opts))
	absurd := map[string][]byte{"bcrypt": encode(&pem.Block{Type: locked.Type, Bytes: append([]byte(bcryptMagic), ssh.Marshal(o)...)})}
	der := must(pkcs8.Seal(key, []byte("x"), pkcs8.Cost{Iterations: 4242}))
	small, large := must(asn1.Marshal(4242)), must(asn1.Marshal(0x7fffff))
	_ = large
	if i := bytes.Index(der, small); i > 0 {
		der[i+2], der[i+3] = 0x7f, 0xff // the most that fits in two bytes: still cheap
		if k, err := Parse(encode(&pem.Block{Type: "ENCRYPTED PRIVATE KEY", Bytes: der})); err != nil || k.Derivation.Rounds != 0x7fff {
			t.Errorf("PBKDF2 is read as %+v, %v", k.Derivation, err)
		}
	}
	der = must(pkcs8.Seal(key, []byte("x"), pkcs8.Cost{N: 1024, R: 8, P: 1}))
	if i := bytes.Index(der, must(asn1.Marshal(1024))); i > 0 {
		der[i+2], der[i+3] = 0x40, 0
		der[i+6] = 0x7f // and blocks of 127
		absurd["scrypt"] = encode(&pem.Block{Type: "ENCRYPTED PRIVATE KEY", Bytes: der})
	}
	for name, text := range absurd {
		k, err := Parse(text)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		_, err = k.private([]byte("x"))
		var costly *TooCostly
		if name == "scrypt" && k.Derivation.Memory < mostMemory {
			continue // this one stays within its bounds
		}
		if !errors.As(err, &costly) {
			t.Errorf("%s, %s: %v", name, k.Derivation, err)
		}
	}
}

func TestASealedPasswordIsOpenedByItsKeyAlone(t *testing.T) {
	key := someKeys["RSA"].(*rsa.PrivateKey)
	//lint:ignore SA1019 it is the form consoles seal in
	sealed := base64.StdEncoding.EncodeToString(must(rsa.EncryptPKCS1v15(rand.Reader, &key.PublicKey, []byte("first-password"))))
	k := must(Parse(encode(must(ssh.MarshalPrivateKey(key, "")))))
	if got, err := k.Unseal(sealed[:40]+"\n "+sealed[40:], nil); err != nil || string(got) != "first-password" {
		t.Errorf("%q, %v", got, err)
	}
	other := must(Parse(encode(must(ssh.MarshalPrivateKey(must(rsa.GenerateKey(rand.Reader, 2048)), "")))))
	ed := must(Parse(encode(must(ssh.MarshalPrivateKey(someKeys["Ed25519"], "")))))
	for what, f := range map[string]func() ([]byte, error){
		"another key": func() ([]byte, error) { return other.Unseal(sealed, nil) },
		"no RSA":      func() ([]byte, error) { return ed.Unseal(sealed, nil) },
		"no base64":   func() ([]byte, error) { return k.Unseal("???", nil) },
	} {
		if got, err := f(); err == nil {
			t.Errorf("%s: %q", what, got)
		}
	}
}

func TestKeysAreRenamedRetiredAndSplit(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a.pem")
	if err := Write(path, someKeys["Ed25519"], Wrapping{}); err != nil {
		t.Fatal(err)
	}
	if err := Write(filepath.Join(dir, "b.pem"), someKeys["RSA"], Wrapping{}); err != nil {
		t.Fatal(err)
	}
	if _, err := Rename(path, "b.pem"); !errors.Is(err, os.ErrExist) {
		t.Errorf("renamed over another: %v", err)
	}
	for _, bad := range []string{"", "..", "x/y"} {
		if _, err := Rename(path, bad); err == nil {
			t.Errorf("renamed to %q", bad)
		}
	}
	path, err := Rename(path, "c.pem")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(path + ".pub"); err != nil {
		t.Error("the public half was left behind")
	}
	for _, want := range []string{"c.pem", "c.pem.2"} {
		at, err := Retire(path)
		if err != nil || filepath.Base(at) != want || filepath.Base(filepath.Dir(at)) != RetiredFolder {
			t.Errorf("retired to %s, %v", at, err)
		}
		Write(path, someKeys["ECDSA"], Wrapping{})
	}
	var several []byte
	for _, key := range someKeys {
		several = append(several, encode(must(ssh.MarshalPrivateKey(key, "")))...)
	}
	written, err := Split(several, dir, "split")
	if err != nil || len(written) != 3 {
		t.Fatalf("split %q, %v", written, err)
	}
	for _, w := range written {
		if k, err := Read(w); err != nil || k.Kind == "" {
			t.Errorf("%s: %v", w, err)
		}
	}
	if _, err := Split(several, dir, "split"); !errors.Is(err, os.ErrExist) {
		t.Errorf("split over files: %v", err)
	}
	if _, err := Split(several[:100], dir, "one"); err == nil {
		t.Error("split what is no archive")
	}
}

func TestPublicHalvesInBothForms(t *testing.T) {
	pub := public(t, someKeys["RSA"])
	text := PublicRFC4716(pub, `the "keeper"`)
	if !strings.HasPrefix(text, "---- BEGIN SSH2 PUBLIC KEY ----\nComment: \"the keeper\"\n") {
		t.Errorf("%s", text)
	}
	var body strings.Builder
	for line := range strings.Lines(text) {
		if len(line) > 73 {
			t.Errorf("a line of %d", len(line))
		}
		if !strings.ContainsAny(line, "-:") || strings.ContainsRune("+/", rune(line[0])) {
			body.WriteString(strings.TrimSpace(line))
		}
	}
	if raw, err := base64.StdEncoding.DecodeString(body.String()); err != nil || !bytes.Equal(raw, pub.Marshal()) {
		t.Errorf("the key inside: %v", err)
	}
}

func TestEveryCutOfEveryContainerIsToldInWords(t *testing.T) {
	for kind, key := range someKeys {
		for name, text := range containers(key) {
			for n := 0; n < len(text); n += 1 + len(text)/150 {
				k, err := Parse(text[:n])
				if err == nil {
					_, err = k.private([]byte("tide"))
				}
				if err == nil && n < len(text)-2 {
					t.Errorf("%s in %s, cut after %d of %d, is a key", kind, name, n, len(text))
				}
				if err != nil && fmt.Sprint(err) == "" {
					t.Errorf("%s in %s, cut after %d: no words", kind, name, n)
				}
				if strings.Contains(name, "bcrypt locked") {
					n += len(text) / 10 // its derivation takes long
				}
			}
		}
	}
}

func TestStrengthAndPassphrasesAreJudged(t *testing.T) {
	for _, c := range []struct {
		s    Sheet
		want Strength
	}{
		{Sheet{}, Unknown}, {Sheet{Kind: "RSA", Bits: 1024}, TooWeak}, {Sheet{Kind: "RSA", Bits: 2048}, Aging}, {Sheet{Kind: "RSA", Bits: 4096}, Sound},
		{Sheet{Kind: "Ed25519", Bits: 256}, Sound}, {Sheet{Kind: "ssh-dss"}, TooWeak},
	} {
		if got, why := c.s.Strength(); got != c.want || (why == "") != (got == Sound) {
			t.Errorf("%s %d: %s, %q", c.s.Kind, c.s.Bits, got, why)
		}
	}
	for pass, weak := range map[string]bool{"": true, "short": true, "aaaaaaaaaaaaaaaaaa": true, "abcdefghijkl": true, "four words of the sea": false, "Tr0ub4dor&3x": false} {
		if got := JudgePassphrase([]byte(pass)); (got != "") != weak {
			t.Errorf("%q: %q", pass, got)
		}
	}
}
