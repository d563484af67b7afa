package walk_test

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/lease"
	"meatus/core/route"
	"meatus/core/step"
	"meatus/core/walk"
	"meatus/lab/labtest"
)

// codes types the codes that are shown, as somebody, or has them refused.
type codes struct {
	labtest.Yes
	b     *bay
	as    string
	shown []step.ServerQuestions
}

var shownCode = regexp.MustCompile(`[A-Z2-7]{4}-[A-Z2-7]{4}`)

func (c *codes) Answers(ctx context.Context, q step.ServerQuestions) ([]string, error) {
	c.shown = append(c.shown, q)
	if c.as == "" {
		return nil, step.ErrDeclined
	}
	if err := c.b.TypeCode(shownCode.FindString(q.Instruction), c.as); err != nil {
		return nil, err
	}
	<-ctx.Done() // the question goes when the provider knows
	return nil, ctx.Err()
}

// gangway is the way to the bay's issuer for whoever comes by a code.
func gangway(t *testing.T, b *bay) route.Route {
	t.Helper()
	read, err := book.Read(filepath.Join(b.Dir, book.FileName))
	if err != nil {
		t.Fatal(err)
	}
	r, err := route.Planner{Source: read, Dir: b.Dir}.Issuer("gangway")
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// Who comes to a service by a code is asked once, by an address, a code and a picture, and known by the token.
func TestALoginByACode(t *testing.T) {
	b := openBay(t, nil)
	asker := &codes{b: b, as: "warden"}
	w := walk.New(walk.Config{Vouched: b.vouched, Asker: asker, Network: b.Dialer()})
	t.Cleanup(w.Close)
	issuer := gangway(t, b)
	client := &lease.Client{At: w.AtGateway}
	about := func() (lease.About, error) {
		list, err := lease.Told(t.Context(), client, issuer, lease.Introduce{})
		if err != nil || len(list) != 1 {
			return lease.About{}, err
		}
		return list[0], nil
	}
	if a, err := about(); err != nil || a.Person != "warden" {
		t.Fatalf("%+v %v", a, err)
	}
	if a, err := about(); err != nil || a.Person != "warden" || len(asker.shown) != 1 {
		t.Errorf("%+v %v, asked %d times", a, err, len(asker.shown))
	}
	q := asker.shown[0]
	if !strings.Contains(q.Title, "go to http://127.0.0.1:") || len(q.Picture) < 10 || q.Hop != "issuer gangway" {
		t.Errorf("%+v", q)
	}
	asker.as = "nobody"
	w.ForgetTokens()
	again := walk.New(walk.Config{Vouched: b.vouched, Asker: asker, Network: b.Dialer()})
	t.Cleanup(again.Close)
	client.At = again.AtGateway
	var f *gate.Failure
	if _, err := about(); !errors.As(err, &f) || f.Cause != gate.NoKeyAccepted { // the provider knows them, and the issuer does not
		t.Errorf("%v", err)
	}
	asker.as = ""
	again.ForgetTokens()
	if _, err := about(); !errors.As(err, &f) || f.Gate != gate.Key {
		t.Errorf("%v", err)
	}
}

// A provider that offers no such login, sends somewhere that others can read, or says no.
func TestIdentityProvidersThatAreNone(t *testing.T) {
	b := openBay(t, nil)
	for name, c := range map[string]struct{ more, device, token, say string }{
		"no device grant": {``, ``, ``, "does not offer the device grant"},
		"a plain address": {`,"device_authorization_endpoint":"URL/device"`, `{"device_code":"x","user_code":"y","verification_uri":"http://lantern.example/go","expires_in":60,"interval":1}`, ``, "not an https address"},
		"no":              {`,"device_authorization_endpoint":"URL/device"`, `{"device_code":"x","user_code":"y","verification_uri":"URL/go","expires_in":60,"interval":1}`, `{"error":"access_denied"}`, "the identity provider says no: access_denied"},
		"no token in it":  {`,"device_authorization_endpoint":"URL/device"`, `{"device_code":"x","user_code":"y","verification_uri":"URL/go","expires_in":60,"interval":1}`, `{"access_token":"x","token_type":"Bearer"}`, "gave no token that says who it is"},
		"a bent token":    {`,"device_authorization_endpoint":"URL/device"`, `{"device_code":"x","user_code":"y","verification_uri":"URL/go","expires_in":60,"interval":1}`, `{"access_token":"x","token_type":"Bearer","id_token":"a.b.c"}`, "does not hold"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var s *httptest.Server
			answer := func(w http.ResponseWriter, text string) {
				w.Header().Set("Content-Type", "application/json")
				if strings.Contains(text, "\"error\"") {
					w.WriteHeader(http.StatusBadRequest)
				}
				w.Write([]byte(strings.ReplaceAll(text, "URL", s.URL)))
			}
			mux := http.NewServeMux()
			mux.HandleFunc("/.well-known/openid-configuration", func(w http.ResponseWriter, _ *http.Request) {
				answer(w, `{"issuer":"URL","jwks_uri":"URL/keys","authorization_endpoint":"URL","token_endpoint":"URL/token","id_token_signing_alg_values_supported":["RS256"]`+c.more+`}`)
			})
			mux.HandleFunc("/keys", func(w http.ResponseWriter, _ *http.Request) { answer(w, `{"keys":[]}`) })
			mux.HandleFunc("/device", func(w http.ResponseWriter, _ *http.Request) { answer(w, c.device) })
			mux.HandleFunc("/token", func(w http.ResponseWriter, _ *http.Request) { answer(w, c.token) })
			s = httptest.NewServer(mux)
			t.Cleanup(s.Close)
			issuer := gangway(t, b)
			g := *issuer.Hops[0].Gateway
			g.Device = s.URL
			issuer.Hops[0].Gateway = &g
			w := walk.New(walk.Config{Vouched: b.vouched, Asker: waits{}, Network: b.Dialer()})
			t.Cleanup(w.Close)
			_, err := w.Walk(t.Context(), issuer)
			if err == nil || !strings.Contains(err.Error(), c.say) {
				t.Errorf("%v", err)
			}
		})
	}
}

// waits answers nothing until it need not.
type waits struct{ labtest.Yes }

func (waits) Answers(ctx context.Context, _ step.ServerQuestions) ([]string, error) {
	<-ctx.Done()
	return nil, ctx.Err()
}
