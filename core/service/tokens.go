package service

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
)

// Tokens are the bearer tokens (RFC 6750) of one issuer that persons are known by: JSON Web Tokens (RFC 7519),
// checked against the keys that the issuer publishes.
type Tokens struct {
	Issuer   string // its URL
	Audience string // that a token has to be for
	Client   *http.Client

	mu       sync.Mutex
	verifier *oidc.IDTokenVerifier
}

// skew is how far clocks may be apart.
const skew = 2 * time.Minute

// Claims are what a token says of a person.
type Claims struct {
	Subject string
	Email   string // "" where it is not verified
	Expires time.Time
}

// errShown is all that a stranger is told.
var errShown = errors.New("the certificate or token is not taken")

// Check checks a token. Why one is not taken is for the log alone.
func (t *Tokens) Check(ctx context.Context, raw string) (Claims, error) {
	verifier, err := t.published(ctx)
	if err != nil {
		return Claims{}, fmt.Errorf("the keys of %s: %w", t.Issuer, err)
	}
	token, err := verifier.Verify(t.context(ctx), raw)
	if err != nil {
		return Claims{}, err
	}
	if token.IssuedAt.After(time.Now().Add(skew)) {
		return Claims{}, errors.New("it was issued in the future")
	}
	var more struct {
		Email    string `json:"email"`
		Verified *bool  `json:"email_verified"`
	}
	if err := token.Claims(&more); err != nil {
		return Claims{}, err
	}
	if more.Verified == nil || !*more.Verified {
		more.Email = ""
	}
	return Claims{token.Subject, strings.ToLower(more.Email), token.Expiry}, nil
}

func (t *Tokens) context(ctx context.Context) context.Context {
	if t.Client != nil {
		return oidc.ClientContext(ctx, t.Client)
	}
	return ctx
}

// published is what checks tokens by the keys that the issuer publishes, which are asked for when they are first
// wanted and again when a token has another one.
func (t *Tokens) published(ctx context.Context) (*oidc.IDTokenVerifier, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.verifier != nil {
		return t.verifier, nil
	}
	asking, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	p, err := oidc.NewProvider(t.context(asking), t.Issuer)
	if err != nil {
		return nil, err
	}
	t.verifier = p.VerifierContext(t.context(context.WithoutCancel(ctx)), &oidc.Config{ClientID: t.Audience})
	return t.verifier, nil
}
