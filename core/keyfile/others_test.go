package keyfile

import (
	"bytes"
	"crypto"
	"crypto/aes"
	"crypto/cipher"
	"encoding/pem"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/dchest/bcrypt_pbkdf"
	"golang.org/x/crypto/ssh"
)

// The containers in testdata/bcrypt were written by another implementation, one for each
// cipher, with the passphrase "low tide".
func TestEachCipherOfTheBcryptContainerIsRead(t *testing.T) {
	files, err := filepath.Glob("testdata/bcrypt/*.pem")
	if err != nil || len(files) != 2*len(sealings) {
		t.Fatalf("%d containers for %d ciphers, %v", len(files), len(sealings), err)
	}
	for _, path := range files {
		text, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		k, err := Parse(text)
		if err != nil || k.Public == nil || !k.Passphrase {
			t.Errorf("%s: %v", path, err)
			continue
		}
		s, err := k.Signer([]byte("low tide"))
		if err != nil || !bytes.Equal(s.PublicKey().Marshal(), k.Public.Marshal()) {
			t.Errorf("%s: %v", path, err)
		}
		for _, wrong := range []string{"", "high tide"} {
			if _, err := k.Signer([]byte(wrong)); !errors.Is(err, ErrPassphrase) {
				t.Errorf("%s with %q: %v", path, wrong, err)
			}
		}
	}
}

// genkey makes a key by openssl.
func genkey(t *testing.T, args ...string) []byte {
	t.Helper()
	return openssl(t, nil, append([]string{"genpkey"}, args...)...)
}

func TestSoundKeysAreReadOrNamed(t *testing.T) {
	ed := genkey(t, "-algorithm", "ED25519")
	rsaKey := genkey(t, "-algorithm", "RSA", "-pkeyopt", "rsa_keygen_bits:2048")
	sealed := func(args ...string) []byte {
		return openssl(t, ed, append([]string{"pkcs8", "-topk8", "-passout", "pass:low tide", "-iter", "1000"}, args...)...)
	}
	for what, text := range map[string][]byte{
		"HMAC-SHA-224": sealed("-v2", "aes-256-cbc", "-v2prf", "hmacWithSHA224"), "HMAC-SHA-384": sealed("-v2", "aes-256-cbc", "-v2prf", "hmacWithSHA384"),
		"HMAC-SHA-512": sealed("-v2", "aes-256-cbc", "-v2prf", "hmacWithSHA512"), "AES-192": sealed("-v2", "aes-192-cbc"),
		"PBES1 MD5": sealed("-v1", "PBE-MD5-DES", "-provider", "legacy", "-provider", "default"), "PBES1 SHA-1": sealed("-v1", "PBE-SHA1-DES", "-provider", "legacy", "-provider", "default"),
		"DER, encrypted": sealed("-v2", "aes-256-cbc", "-outform", "DER"), "DER": openssl(t, ed, "pkey", "-outform", "DER"),
		"DER of RSA":   openssl(t, rsaKey, "rsa", "-traditional", "-outform", "DER"),
		"DER of ECDSA": openssl(t, genkey(t, "-algorithm", "EC", "-pkeyopt", "ec_paramgen_curve:P-384"), "ec", "-outform", "DER"),
	} {
		k, err := Parse(text)
		if err == nil {
			_, err = k.Secret([]byte("low tide"))
		}
		if err != nil {
			t.Errorf("%s is not read: %v", what, err)
		}
		if err == nil && k.Passphrase {
			if _, err := k.Secret([]byte("high tide")); !errors.Is(err, ErrPassphrase) {
				t.Errorf("%s with a wrong passphrase: %v", what, err)
			}
		}
	}
	ec := func(curve string) []byte {
		return genkey(t, "-algorithm", "EC", "-pkeyopt", "ec_paramgen_curve:"+curve)
	}
	token := func(kind string) []byte {
		pub := ssh.Marshal(struct{ Kind, Key, App string }{kind, strings.Repeat("k", 32), "ssh:"})
		o := bcryptOuter{CipherName: "none", KdfName: "none", NumKeys: 1, PubKey: pub, PrivBlock: make([]byte, 64)}
		return encode(pemOf("OPENSSH PRIVATE KEY", append([]byte(bcryptMagic), ssh.Marshal(o)...)))
	}
	for _, c := range []struct {
		say  string
		text []byte
	}{
		{"Ed448", genkey(t, "-algorithm", "ED448")}, {"X25519", genkey(t, "-algorithm", "X25519")},
		{"RSA-PSS", genkey(t, "-algorithm", "RSA-PSS", "-pkeyopt", "rsa_keygen_bits:2048")},
		{"secp256k1", ec("secp256k1")}, {"brainpoolP384r1", ec("brainpoolP384r1")},
		{"secp256k1", openssl(t, ec("secp256k1"), "ec")}, {"Brainpool", ec("brainpoolP320r1")},
		{"secp256k1", openssl(t, ec("secp256k1"), "pkcs8", "-topk8", "-passout", "pass:low tide", "-iter", "1000")},
		{"Camellia-256", sealed("-v2", "camellia-256-cbc")}, {"ARIA-128", sealed("-v2", "aria-128-cbc")},
		{"PKCS#12 with triple DES", sealed("-v1", "PBE-SHA1-3DES")},
		{"security token", token("sk-ssh-ed25519@openssh.com")}, {`"ssh-mldsa-44"`, token("ssh-mldsa-44")},
	} {
		k, err := Parse(c.text)
		if err == nil {
			_, err = k.Secret([]byte("low tide"))
		}
		var not *NotAKey
		if !errors.As(err, &not) || !strings.Contains(not.Say, c.say) || strings.Contains(not.Say, "damaged") || not.none || not.Mend == "" {
			t.Errorf("%s: %v", c.say, err)
		}
	}
}

func TestAKeyThatCostsTooMuchToReadIsRefused(t *testing.T) {
	modulus := append([]byte{2, 0x82, 0x20, 0x00, 0x7f}, bytes.Repeat([]byte{0x55}, 0x1fff)...) // 65,536 bits
	for _, der := range [][]byte{
		append([]byte{0x30, 0x82, 0x20, 0x07, 2, 1, 0}, modulus...),
	} {
		if err := opened(encode(pemOf("RSA PRIVATE KEY", der))); err == nil || !strings.Contains(err.Error(), "costs too much") {
			t.Errorf("a long modulus: %v", err)
		}
	}
	long := encode(pemOf("RSA PRIVATE KEY", append([]byte{0x30, 0x82, 0xff, 0xf0, 2, 1, 0, 2, 0x82, 0xff, 0xe0}, make([]byte, 65000)...)))
	if _, err := Parse(long); err == nil || !strings.Contains(err.Error(), "costs too much") {
		t.Errorf("got %v", err)
	}
}

// FuzzEncrypted opens containers of every form that were damaged, with their passphrase:
// none may panic, and what opens is a key.
func FuzzEncrypted(f *testing.F) {
	for _, key := range made() {
		for name, text := range locked(key) {
			f.Add(text, 0, byte(1))
			f.Add(text[:len(text)-30], 100, byte(len(name)))
		}
	}
	f.Fuzz(func(t *testing.T, text []byte, at int, flip byte) {
		if len(text) > 0 {
			text = bytes.Clone(text)
			text[abs(at)%len(text)] ^= flip
		}
		k, err := Parse(text)
		if err != nil || k.Derivation.Rounds > 2000 || k.Derivation.Memory > 16<<20 {
			return
		}
		key, err := k.Secret([]byte("tide"))
		if err == nil && key == nil {
			t.Error("nothing was opened, and no error said so")
		}
		if err != nil && strings.Contains(err.Error(), "fault of this program") {
			t.Error(err)
		}
	})
}

func abs(n int) int { return max(n, -n, 0) }

// locked is a key in each container with the passphrase "tide", which costs little to try.
func locked(key crypto.PrivateKey) map[string][]byte {
	all := map[string][]byte{}
	for name, text := range containers(key) {
		if strings.Contains(name, "locked") && !strings.Contains(name, "bcrypt") {
			all[name] = text
		}
	}
	block := must(ssh.MarshalPrivateKey(key, ""))
	for name, s := range sealings {
		o := must(outer(block.Bytes))
		pad := int(o.PrivBlock[len(o.PrivBlock)-1])
		if pad >= 8 {
			pad = 0
		}
		for len(o.PrivBlock)%s.block != 0 {
			pad++
			o.PrivBlock = append(o.PrivBlock, byte(pad))
		}
		derived := must(bcrypt_pbkdf.Key([]byte("tide"), []byte("salt of the sea."), 1, s.key+s.iv))
		sealed := seal(name, derived[:s.key], derived[s.key:], o.PrivBlock)
		o.CipherName, o.KdfName = name, "bcrypt"
		o.KdfOpts = string(ssh.Marshal(struct {
			Salt   string
			Rounds uint32
		}{"salt of the sea.", 1}))
		o.PrivBlock, o.Tag = sealed[:len(o.PrivBlock)], sealed[len(o.PrivBlock):]
		all["bcrypt "+name] = encode(pemOf("OPENSSH PRIVATE KEY", append([]byte(bcryptMagic), ssh.Marshal(o)...)))
	}
	return all
}

// seal is the way there of a sealing, without a true tag for those whose cipher is another
// implementation's to try.
func seal(name string, key, iv, plain []byte) []byte {
	if block, err := aes.NewCipher(key); err == nil && strings.HasPrefix(name, "aes") {
		switch {
		case strings.HasSuffix(name, "-ctr"):
			out := make([]byte, len(plain))
			cipher.NewCTR(block, iv).XORKeyStream(out, plain)
			return out
		case strings.HasSuffix(name, "-cbc"):
			out := make([]byte, len(plain))
			cipher.NewCBCEncrypter(block, iv).CryptBlocks(out, plain)
			return out
		case strings.Contains(name, "gcm"):
			return must(cipher.NewGCM(block)).Seal(nil, iv, plain, nil)
		}
	}
	return append(bytes.Clone(plain), make([]byte, sealings[name].tag)...)
}

func pemOf(label string, der []byte) *pem.Block { return &pem.Block{Type: label, Bytes: der} }

func TestAnEncryptedKeyOfAnyLengthIsTold(t *testing.T) {
	for _, key := range made() {
		for name, text := range locked(key) {
			block, _ := pem.Decode(text)
			if err := opened(text); err != nil && !errors.Is(err, ErrPassphrase) {
				t.Errorf("%s: %v", name, err)
			}
			for cut := range min(len(block.Bytes), 40) {
				short := *block
				short.Bytes = block.Bytes[:len(block.Bytes)-cut-1]
				if err := opened(encode(&short)); err == nil || strings.Contains(err.Error(), "fault of this program") {
					t.Errorf("%s without its last %d bytes: %v", name, cut+1, err)
				}
			}
		}
	}
}

func opened(text []byte) error {
	k, err := Parse(text)
	if err == nil {
		_, err = k.Secret([]byte("tide"))
	}
	return err
}

func TestAPanicInsideIsAnErrorOfThatKey(t *testing.T) {
	defer func(s sealing) { sealings["aes256-ctr"] = s }(sealings["aes256-ctr"])
	s := sealings["aes256-ctr"]
	s.open = func(_, _, _, _ []byte) ([]byte, error) { panic("crypto/cipher: input not full blocks") }
	sealings["aes256-ctr"] = s
	if err := opened(locked(made()["Ed25519"])["bcrypt aes256-ctr"]); err == nil || !strings.Contains(err.Error(), "fault of this program") {
		t.Errorf("got %v", err)
	}
}

// Sound keys that are not read here are told for what they are, and never called damaged.
func TestOldCiphersAndOddCurvesAreNamed(t *testing.T) {
	rsa := openssl(t, nil, "genrsa", "-traditional", "2048")
	explicit := openssl(t, nil, "ecparam", "-name", "prime256v1", "-genkey", "-noout", "-param_enc", "explicit")
	sealed := func(args ...string) []byte {
		return openssl(t, rsa, append([]string{"rsa", "-traditional", "-passout", "pass:low tide"}, args...)...)
	}
	for name, c := range map[string]struct {
		text []byte
		want string
	}{
		"Camellia":                {sealed("-camellia256"), "the cipher CAMELLIA-256-CBC"},
		"ChaCha20":                {sealed("-chacha20"), "the cipher ChaCha20"},
		"GCM":                     {bytes.Replace(sealed("-aes256"), []byte("AES-256-CBC"), []byte("id-aes256-GCM"), 1), "the cipher id-aes256-GCM"},
		"PKCS#8 with Camellia":    {openssl(t, rsa, "pkcs8", "-topk8", "-v2", "camellia-256-cbc", "-passout", "pass:low tide"), "not supported"},
		"an explicit curve":       {explicit, "whose curve is written out in numbers"},
		"the same as PKCS#8":      {openssl(t, explicit, "pkcs8", "-topk8", "-nocrypt"), "whose curve is written out in numbers"},
		"the same, encrypted":     {openssl(t, explicit, "pkcs8", "-topk8", "-passout", "pass:low tide"), "whose curve is written out in numbers"},
		"the same in the old way": {openssl(t, explicit, "ec", "-aes256", "-passout", "pass:low tide"), "whose curve is written out in numbers"},
		"X25519, encrypted":       {genkey(t, "-algorithm", "X25519", "-aes-256-cbc", "-pass", "pass:low tide"), "an X25519 key, which agrees on secrets"},
		"P-224, encrypted":        {openssl(t, openssl(t, nil, "ecparam", "-name", "secp224r1", "-genkey", "-noout"), "pkcs8", "-topk8", "-passout", "pass:low tide"), "an ECDSA key on the curve P-224"},
	} {
		t.Run(name, func(t *testing.T) {
			file, err := Parse(c.text)
			if err == nil {
				_, err = file.Signer([]byte("low tide"))
			}
			if err == nil || !strings.Contains(err.Error(), c.want) || strings.Contains(err.Error(), "damaged") || strings.Contains(err.Error(), "*") {
				t.Errorf("it is told as %v", err)
			}
		})
	}
}
