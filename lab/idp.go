package lab

import (
	"crypto/rand"
	"crypto/rsa"
	"encoding/json"
	"fmt"
	"html"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// provider is the bay's identity provider: OpenID Connect's discovery and keys, and the device grant (RFC 8628) with a
// plain page, on loopback. Whoever types a code there says who it is, since everybody in the bay knows everybody.
type provider struct {
	url    string
	key    func() (*rsa.PrivateKey, error)
	server *http.Server

	mu    sync.Mutex
	codes map[string]*deviceCode // by the code that is typed
}

// deviceCode is one login on its way.
type deviceCode struct {
	device string
	until  time.Time
	as     string // "" as long as nobody has typed it
	no     bool
}

// How long codes and tokens of the provider last, and how often it may be asked.
const (
	codeLife    = 5 * time.Minute
	idTokenLife = time.Hour
	everySecs   = 1
)

// ProviderClient is what this program is called at the bay's identity provider.
const ProviderClient = "meatus"

// providerKey is what the providers of this process sign with, made when the first of them has to.
var providerKey = sync.OnceValues(func() (*rsa.PrivateKey, error) { return rsa.GenerateKey(rand.Reader, 2048) })

// openProvider starts it.
func (b *Lab) openProvider() error {
	folder := filepath.Join(b.Dir, "lab", "provider")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	kept := filepath.Join(folder, "port")
	port, err := keptText(kept, func() string { return "0" })
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", port))
	if err != nil {
		return fmt.Errorf("the identity provider's port %s is taken: %w; stop what holds it (perhaps another lab in %s)", port, err, b.Dir)
	}
	_, port, _ = net.SplitHostPort(l.Addr().String())
	if err := os.WriteFile(kept, []byte(port), 0o600); err != nil {
		return err
	}
	p := &provider{url: "http://" + l.Addr().String(), key: providerKey, codes: map[string]*deviceCode{}}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /.well-known/openid-configuration", func(w http.ResponseWriter, _ *http.Request) {
		tell(w, http.StatusOK, map[string]any{"issuer": p.url, "jwks_uri": p.url + "/keys", "authorization_endpoint": p.url + "/none", "token_endpoint": p.url + "/token", "device_authorization_endpoint": p.url + "/device", "id_token_signing_alg_values_supported": []string{"RS256"}})
	})
	mux.HandleFunc("GET /keys", func(w http.ResponseWriter, _ *http.Request) {
		key, err := p.key()
		if err != nil {
			tell(w, http.StatusInternalServerError, map[string]string{"error": "server_error"})
			return
		}
		tell(w, http.StatusOK, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: key.Public(), KeyID: "1", Algorithm: "RS256", Use: "sig"}}})
	})
	mux.HandleFunc("POST /device", p.device)
	mux.HandleFunc("POST /token", p.token)
	mux.HandleFunc("GET /go", p.page)
	mux.HandleFunc("POST /go", p.typed)
	p.server = &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second}
	b.provider = p
	b.wg.Go(func() { _ = p.server.Serve(l) }) // it ends with the bay
	return nil
}

func tell(w http.ResponseWriter, status int, value any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(value) // who has gone away is told nothing
}

// device gives a code (RFC 8628 section 3.2).
func (p *provider) device(w http.ResponseWriter, r *http.Request) {
	if r.FormValue("client_id") != ProviderClient {
		tell(w, http.StatusUnauthorized, map[string]string{"error": "invalid_client"})
		return
	}
	code := rand.Text()[:4] + "-" + rand.Text()[:4]
	c := &deviceCode{device: rand.Text(), until: time.Now().Add(codeLife)}
	p.mu.Lock()
	p.codes[code] = c
	p.mu.Unlock()
	tell(w, http.StatusOK, map[string]any{"device_code": c.device, "user_code": code, "verification_uri": p.url + "/go", "verification_uri_complete": p.url + "/go?code=" + code, "expires_in": int(codeLife / time.Second), "interval": everySecs})
}

// token answers how it stands with a code (section 3.5).
func (p *provider) token(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for code, c := range p.codes {
		if c.device != r.FormValue("device_code") {
			continue
		}
		switch {
		case time.Now().After(c.until):
			tell(w, http.StatusBadRequest, map[string]string{"error": "expired_token"})
		case c.no:
			tell(w, http.StatusBadRequest, map[string]string{"error": "access_denied"})
		case c.as == "":
			tell(w, http.StatusBadRequest, map[string]string{"error": "authorization_pending"})
			return
		default:
			text, err := p.sign(c.as)
			if err != nil {
				tell(w, http.StatusInternalServerError, map[string]string{"error": "server_error"})
				return
			}
			tell(w, http.StatusOK, map[string]any{"access_token": rand.Text(), "token_type": "Bearer", "expires_in": int(idTokenLife / time.Second), "id_token": text})
		}
		delete(p.codes, code)
		return
	}
	tell(w, http.StatusBadRequest, map[string]string{"error": "invalid_grant"})
}

// sign makes a token that says who it is.
func (p *provider) sign(as string) (string, error) {
	key, err := p.key()
	if err != nil {
		return "", err
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.RS256, Key: jose.JSONWebKey{Key: key, KeyID: "1"}}, nil)
	if err != nil {
		return "", err
	}
	now := time.Now()
	claims, err := json.Marshal(map[string]any{"iss": p.url, "aud": ProviderClient, "sub": as, "email": as + "@lantern.example", "email_verified": true, "iat": now.Unix(), "exp": now.Add(idTokenLife).Unix()})
	if err != nil {
		return "", err
	}
	signed, err := signer.Sign(claims)
	if err != nil {
		return "", err
	}
	return signed.CompactSerialize()
}

// page is where a code is typed.
func (p *provider) page(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	fmt.Fprintf(w, `<!doctype html><title>Lantern Bay</title><h1>Who is at the gangway?</h1>
<form method="post">the code <input name="code" value="%s"> I am <select name="as"><option>warden<option>keeper<option>pilot<option>mate</select>
<button>let it in</button> <button name="no" value="1">no</button></form>
`, html.EscapeString(r.FormValue("code")))
}

// typed takes a code.
func (p *provider) typed(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	c := p.codes[strings.ToUpper(strings.TrimSpace(r.FormValue("code")))]
	if c == nil || r.FormValue("as") == "" {
		http.Error(w, "there is no such code", http.StatusNotFound)
		return
	}
	c.as, c.no = r.FormValue("as"), r.FormValue("no") != ""
	fmt.Fprintln(w, "thank you; go back to your terminal")
}

// TypeCode types a code at the bay's identity provider, as somebody.
func (b *Lab) TypeCode(code, as string) error {
	answer, err := http.PostForm(b.provider.url+"/go", url.Values{"code": {code}, "as": {as}})
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return fmt.Errorf("the provider says %s", answer.Status)
	}
	return nil
}
