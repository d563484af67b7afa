package gateway_test

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/json"
	"errors"
	"io"
	"math/big"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/gateway"
	"meatus/core/line"
	"meatus/core/service"
	"meatus/lab/await"
)

// issuer is one of bearer tokens, with the keys that it publishes.
type issuer struct {
	*httptest.Server
	key *rsa.PrivateKey
}

func newIssuer(t *testing.T) *issuer {
	t.Helper()
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	i := &issuer{key: key}
	mux := http.NewServeMux()
	mux.HandleFunc("/.well-known/openid-configuration", func(w http.ResponseWriter, _ *http.Request) {
		json.NewEncoder(w).Encode(map[string]any{"issuer": i.URL, "jwks_uri": i.URL + "/keys", "authorization_endpoint": i.URL, "token_endpoint": i.URL, "id_token_signing_alg_values_supported": []string{"RS256"}})
	})
	mux.HandleFunc("/keys", func(w http.ResponseWriter, _ *http.Request) {
		json.NewEncoder(w).Encode(map[string]any{"keys": []any{map[string]string{"kty": "RSA", "kid": "1", "alg": "RS256", "use": "sig",
			"n": base64.RawURLEncoding.EncodeToString(key.N.Bytes()), "e": base64.RawURLEncoding.EncodeToString(big.NewInt(int64(key.E)).Bytes())}}})
	})
	i.Server = httptest.NewTLSServer(mux)
	t.Cleanup(i.Close)
	return i
}

// token is a token with the usual claims, changed.
func (i *issuer) token(t *testing.T, header map[string]string, change map[string]any) string {
	t.Helper()
	now := time.Now()
	claims := map[string]any{"iss": i.URL, "aud": "bay", "sub": "4711", "email": "Anni@lantern.example", "email_verified": true, "iat": now.Unix(), "exp": now.Add(time.Hour).Unix()}
	for name, value := range change {
		claims[name] = value
	}
	if header == nil {
		header = map[string]string{"alg": "RS256", "kid": "1"}
	}
	part := func(v any) string {
		text, err := json.Marshal(v)
		if err != nil {
			t.Fatal(err)
		}
		return base64.RawURLEncoding.EncodeToString(text)
	}
	said := part(header) + "." + part(claims)
	if header["alg"] == "none" {
		return said + "."
	}
	sum := sha256.Sum256([]byte(said))
	signed, err := rsa.SignPKCS1v15(rand.Reader, i.key, crypto.SHA256, sum[:])
	if err != nil {
		t.Fatal(err)
	}
	return said + "." + base64.RawURLEncoding.EncodeToString(signed)
}

func TestBearerTokens(t *testing.T) {
	i, other := newIssuer(t), newIssuer(t)
	p := open(t, "person anni token anni@lantern.example\nperson oskar token 4712\nallow everyone to reef\n", "", func(o *gateway.Options) {
		o.Tokens = &service.Tokens{Issuer: i.URL, Audience: "bay", Client: i.Client()}
	})
	p.join("reef", answering(t, echo))
	now := time.Now()
	whole := i.token(t, nil, nil)
	tampered := strings.Split(whole, ".")
	tampered[1] = strings.Split(i.token(t, nil, map[string]any{"email": "mira@lantern.example"}), ".")[1]
	for name, c := range map[string]struct {
		token string
		let   bool
	}{
		"by e-mail":          {whole, true},
		"by subject":         {i.token(t, nil, map[string]any{"sub": "4712", "email": ""}), true},
		"e-mail not checked": {i.token(t, nil, map[string]any{"email_verified": false}), false},
		"e-mail not said":    {i.token(t, nil, map[string]any{"email_verified": nil}), false},
		"tampered":           {strings.Join(tampered, "."), false},
		"expired":            {i.token(t, nil, map[string]any{"exp": now.Add(-time.Minute).Unix()}), false},
		"of the future":      {i.token(t, nil, map[string]any{"iat": now.Add(time.Hour).Unix()}), false},
		"not yet":            {i.token(t, nil, map[string]any{"nbf": now.Add(time.Hour).Unix()}), false},
		"a clock ahead":      {i.token(t, nil, map[string]any{"iat": now.Add(90 * time.Second).Unix()}), true},
		"for another":        {i.token(t, nil, map[string]any{"aud": "reef"}), false},
		"of another issuer":  {other.token(t, nil, nil), false},
		"of a false issuer":  {other.token(t, nil, map[string]any{"iss": i.URL}), false},
		"alg none":           {i.token(t, map[string]string{"alg": "none"}, nil), false},
		"no token":           {"x", false},
		"nobody":             {i.token(t, nil, map[string]any{"email": "nobody@lantern.example"}), false},
	} {
		t.Run(name, func(t *testing.T) {
			p.t = t
			v, err := p.come(line.Target{Header: http.Header{"Authorization": {"Bearer " + c.token}}})
			if (err == nil) != c.let {
				t.Fatalf("%v", err)
			}
			if err != nil {
				if strings.Contains(err.Error(), "anni") || strings.Contains(err.Error(), i.URL) {
					t.Errorf("a stranger is told: %v", err)
				}
				return
			}
			stream, err := v.open(t, "reef")
			if err != nil {
				t.Fatal(err)
			}
			stream.Close()
		})
	}
}

// A connection ends when the token by which it came has expired.
func TestATokenEnds(t *testing.T) {
	i := newIssuer(t)
	p := open(t, "person anni token 4711\n", "", func(o *gateway.Options) {
		o.Tokens = &service.Tokens{Issuer: i.URL, Audience: "bay", Client: i.Client()}
	})
	v, err := p.come(line.Target{Header: http.Header{"Authorization": {"Bearer " + i.token(t, nil, map[string]any{"exp": time.Now().Add(2 * time.Second).Unix()})}}})
	if err != nil {
		t.Fatal(err)
	}
	v.client.Wait()
}

func TestClientCertificates(t *testing.T) {
	signers := func() (*x509.Certificate, *ecdsa.PrivateKey) {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		ca := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "bay"}, NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
		der, err := x509.CreateCertificate(rand.Reader, ca, ca, key.Public(), key)
		if err == nil {
			ca, err = x509.ParseCertificate(der)
		}
		if err != nil {
			t.Fatal(err)
		}
		return ca, key
	}
	ca, caKey := signers()
	falseCA, falseKey := signers()
	cert := func(ca *x509.Certificate, signer *ecdsa.PrivateKey, email string, until time.Duration, use x509.ExtKeyUsage) *tls.Certificate {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		template := &x509.Certificate{SerialNumber: big.NewInt(2), Subject: pkix.Name{CommonName: "somebody"}, EmailAddresses: []string{email}, NotBefore: time.Now().Add(-2 * time.Hour), NotAfter: time.Now().Add(until), ExtKeyUsage: []x509.ExtKeyUsage{use}}
		der, err := x509.CreateCertificate(rand.Reader, template, ca, key.Public(), signer)
		if err != nil {
			t.Fatal(err)
		}
		return &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
	}
	pool := x509.NewCertPool()
	pool.AddCert(ca)
	p := open(t, "person oskar certificate oskar@lantern.example\n", "", func(o *gateway.Options) { o.ClientCAs = pool })
	for name, c := range map[string]struct {
		cert *tls.Certificate
		let  bool
	}{
		"oskar's":       {cert(ca, caKey, "oskar@lantern.example", time.Hour, x509.ExtKeyUsageClientAuth), true},
		"somebody's":    {cert(ca, caKey, "anni@lantern.example", time.Hour, x509.ExtKeyUsageClientAuth), false},
		"expired":       {cert(ca, caKey, "oskar@lantern.example", -time.Hour, x509.ExtKeyUsageClientAuth), false},
		"for a server":  {cert(ca, caKey, "oskar@lantern.example", time.Hour, x509.ExtKeyUsageServerAuth), false},
		"another signs": {cert(falseCA, falseKey, "oskar@lantern.example", time.Hour, x509.ExtKeyUsageClientAuth), false},
	} {
		if _, err := p.come(line.Target{Present: c.cert}); (err == nil) != c.let {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// Whoever offers the public half of another's key, without having it, is who they are themselves.
func TestAnothersPublicKeyIsOnlyAsked(t *testing.T) {
	mira, known1 := key(t, "mira")
	oskar, known2 := key(t, "oskar")
	p := open(t, known1+known2+"allow mira to reef\n", "", nil)
	p.join("reef", answering(t, echo))
	theirs := claimed{mira.PublicKey(), oskar}
	v, err := p.come(line.Target{}, ssh.PublicKeys(oskar, theirs))
	if err != nil {
		t.Fatal(err)
	}
	var refusal *line.Refusal
	if _, err := v.open(t, "reef"); !errors.As(err, &refusal) || !strings.Contains(refusal.Say, "oskar may not reach reef") {
		t.Errorf("%v", err)
	}
	for _, signers := range [][]ssh.Signer{{theirs}, {theirs, oskar}} {
		if _, err := p.come(line.Target{}, ssh.PublicKeys(signers...)); err == nil {
			t.Error("a key that somebody else has let somebody in")
		}
	}
}

// claimed is a key that is signed for with another.
type claimed struct {
	public ssh.PublicKey
	ssh.Signer
}

func (c claimed) PublicKey() ssh.PublicKey { return c.public }

// A certificate that is exchanged is shown from then on; one that is damaged leaves the one before.
func TestCertificatesAreReadAgain(t *testing.T) {
	signer, known := key(t, "mira")
	p := open(t, known, "", nil)
	shown := func() string {
		conn, err := line.Connect(t.Context(), line.Target{URL: p.url, Path: line.ForPersons, HostKeys: []string{p.hostKey}})
		if err != nil {
			return err.Error()
		}
		conn.Close()
		return ssh.FingerprintSHA256(conn.Key)
	}
	first := p.hostKey
	other := &service.Certificate{CertFile: filepath.Join(t.TempDir(), "other.pem")}
	if err := other.Make("gateway"); err != nil {
		t.Fatal(err)
	}
	text, err := os.ReadFile(other.CertFile)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(p.cert.CertFile, text[:200], 0o600); err != nil {
		t.Fatal(err)
	}
	await.Until(t, "the damage to be seen", func() bool { return p.cert.Wrong() != nil })
	if got := shown(); got != first {
		t.Errorf("with a damaged file it shows %s", got)
	}
	if err := os.WriteFile(p.cert.CertFile, text, 0o600); err != nil {
		t.Fatal(err)
	}
	await.Until(t, "the new one to be shown", func() bool {
		cert, err := p.cert.Get()
		p.hostKey = line.FingerprintOf(cert)
		return err == nil && p.hostKey != first && shown() == p.hostKey
	})
	p.mustCome(signer)
}

// Whoever stands between cannot take a person's login to another gateway: it is bound to the key of the one that
// is seen.
func TestALoginIsBoundToItsGateway(t *testing.T) {
	signer, known := key(t, "mira")
	right, false1 := open(t, known, "", nil), open(t, known, "", nil)
	target := line.Target{URL: false1.url, Path: line.ForPersons, HostKeys: []string{right.hostKey}}
	if _, err := line.Connect(t.Context(), target); err == nil {
		t.Error("another gateway's certificate held")
	}
	var invalid *tls.CertificateVerificationError
	target.HostKeys = nil
	if _, err := line.Connect(t.Context(), target); !errors.As(err, &invalid) {
		t.Errorf("a certificate that nobody signs: %v", err)
	}
	_ = signer
}

// Health, readiness and metrics are told.
func TestStatus(t *testing.T) {
	signer, known := key(t, "mira")
	p := open(t, known+"allow mira to *\n", "", nil)
	p.join("reef", answering(t, echo))
	v := p.mustCome(signer)
	stream, err := v.open(t, "reef")
	if err != nil {
		t.Fatal(err)
	}
	told := httptest.NewServer(p.server.Status())
	defer told.Close()
	get := func(path string) (int, string) {
		r, err := http.Get(told.URL + path)
		if err != nil {
			t.Fatal(err)
		}
		defer r.Body.Close()
		text, _ := io.ReadAll(r.Body)
		return r.StatusCode, string(text)
	}
	for _, path := range []string{"/health", "/ready"} {
		if status, text := get(path); status != http.StatusOK {
			t.Errorf("%s: %d %s", path, status, text)
		}
	}
	_, text := get("/metrics")
	for _, want := range []string{"meatus_gateway_machines_joined 1\n", "meatus_gateway_streams 1\n", "meatus_gateway_person_connections 1\n", "meatus_gateway_streams_total 1\n", `meatus_gateway_bytes_total{direction="in"} 0`, "meatus_gateway_store_up 1\n", "meatus_gateway_policy_current 1\n"} {
		if !strings.Contains(text, want) {
			t.Errorf("no %q in\n%s", want, text)
		}
	}
	stream.Close()
}
