package dial

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"
	"rsc.io/qr"

	"meatus/core/gate"
	"meatus/core/sanitize"
	"meatus/core/step"
)

// The device grant (RFC 8628) gets a bearer token of an identity provider by having a person go to an address, on
// whatever device has a browser, and type a code there.

// Bounds of it.
const (
	deviceTime  = 20 * time.Second // for one question to the provider
	longestCode = 15 * time.Minute
	tokenLeft   = time.Minute // that a kept token has to last still
)

// devices keeps tokens in memory, by the provider and who we are to it.
type devices struct {
	mu     sync.Mutex
	tokens map[string]deviceToken
}

type deviceToken struct {
	text string
	ends time.Time
}

// kept is a token that lasts still, "" for none.
func (d *devices) kept(of string) string {
	d.mu.Lock()
	defer d.mu.Unlock()
	if t := d.tokens[of]; time.Until(t.ends) > tokenLeft {
		return t.text
	}
	return ""
}

func (d *devices) keep(of string, t deviceToken) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.tokens == nil {
		d.tokens = map[string]deviceToken{}
	}
	d.tokens[of] = t
}

// ForgetTokens forgets the tokens of identity providers. The next login at a service that wants one asks anew.
func (d *Dialer) ForgetTokens() {
	d.devices.mu.Lock()
	defer d.devices.mu.Unlock()
	clear(d.devices.tokens)
}

// deviceToken is a token of the identity provider that the hop's table names.
func (r *reach) deviceToken(p *step.Patience) (string, error) {
	g := r.Hop.Gateway
	of := g.Device + " " + g.DeviceClient
	if t := r.d.devices.kept(of); t != "" {
		return t, nil
	}
	client := &http.Client{Timeout: deviceTime, Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: r.d.Roots, MinVersion: tls.VersionTLS12}, Proxy: http.ProxyFromEnvironment},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	ctx := oidc.ClientContext(p.Ctx, client)
	provider, err := oidc.NewProvider(ctx, g.Device)
	if err != nil {
		return "", fmt.Errorf("the identity provider %s: %w", sanitize.Line(g.Device, 100), err)
	}
	config := &oauth2.Config{ClientID: g.DeviceClient, Endpoint: provider.Endpoint(), Scopes: []string{oidc.ScopeOpenID, "email"}}
	if config.Endpoint.DeviceAuthURL == "" {
		return "", fmt.Errorf("the identity provider %s does not offer the device grant", sanitize.Line(g.Device, 100))
	}
	asked, err := config.DeviceAuth(ctx)
	if err != nil {
		return "", fmt.Errorf("the identity provider gives no code: %w", err)
	}
	if err := secureAddress(asked.VerificationURI); err != nil {
		return "", err
	}
	if asked.Expiry.IsZero() || time.Until(asked.Expiry) > longestCode {
		asked.Expiry = time.Now().Add(longestCode)
	}
	token, err := r.shown(ctx, p, config, asked)
	if err != nil {
		return "", err
	}
	text, _ := token.Extra("id_token").(string)
	if text == "" || strings.ContainsAny(text, " \t\r\n") || len(text) > 16<<10 {
		return "", errors.New("the identity provider gave no token that says who it is")
	}
	verified, err := provider.Verifier(&oidc.Config{ClientID: g.DeviceClient}).Verify(ctx, text)
	if err != nil {
		return "", fmt.Errorf("the identity provider's token does not hold: %w", err)
	}
	r.d.devices.keep(of, deviceToken{text, verified.Expiry})
	return text, nil
}

// secureAddress fails where a person would be sent to an address that others can read and change.
func secureAddress(text string) error {
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || u.Scheme != "https" && u.Hostname() != "127.0.0.1" && u.Hostname() != "localhost" {
		return fmt.Errorf("the identity provider names %q, which is not an https address", sanitize.Line(text, 100))
	}
	return nil
}

// shown shows the address and the code while it waits for the token.
func (r *reach) shown(ctx context.Context, p *step.Patience, config *oauth2.Config, asked *oauth2.DeviceAuthResponse) (*oauth2.Token, error) {
	resume := p.Pause()
	defer resume()
	ctx, cancel := context.WithDeadline(ctx, asked.Expiry)
	defer cancel()
	at := step.Place{Session: r.Route.Session, Hop: r.Hop.Name, Index: r.Index, Address: r.Hop.Address(), User: r.Hop.User}
	q := step.ServerQuestions{Place: at, Title: "go to " + sanitize.Line(asked.VerificationURI, 200), Instruction: "and type the code " + sanitize.Line(asked.UserCode, 40), Try: 1,
		Picture: picture(asked), Questions: []step.Question{{Text: "press enter when done", Echo: true}}}
	r.Hear(0, gate.Gate{Kind: gate.Key, Seen: "waits for the code " + sanitize.Line(asked.UserCode, 40) + " to be typed at " + sanitize.Line(asked.VerificationURI, 120)}, true)
	type outcome struct {
		token *oauth2.Token
		err   error
	}
	done := make(chan outcome, 1)
	go func() {
		token, err := config.DeviceAccessToken(ctx, asked)
		done <- outcome{token, err}
	}()
	showing, hide := context.WithCancel(ctx)
	defer hide()
	answered := make(chan error, 1)
	go func() {
		_, err := r.Asker.Answers(showing, q)
		answered <- err
	}()
	for {
		select {
		case o := <-done:
			hide()
			var refused *oauth2.RetrieveError
			switch {
			case errors.As(o.err, &refused):
				return nil, fmt.Errorf("the identity provider says no: %s", sanitize.Line(refused.ErrorCode+" "+refused.ErrorDescription, 200))
			case errors.Is(o.err, context.DeadlineExceeded):
				return nil, errors.New("the code was not typed in time")
			}
			return o.token, o.err
		case err := <-answered:
			var nobody step.Nobody
			if errors.As(err, &nobody) && nobody.Remedy == "" {
				nobody.Remedy = "run it where a person can go to an address"
			}
			if err != nil && showing.Err() == nil {
				return nil, err
			}
			answered = nil // it is said to be done: the provider knows better
		}
	}
}

// picture is the address with the code as a QR code, in lines of half blocks, none where it has too much to say.
func picture(asked *oauth2.DeviceAuthResponse) []string {
	text := asked.VerificationURIComplete
	if text == "" || secureAddress(text) != nil || len(text) > 200 {
		return nil
	}
	code, err := qr.Encode(text, qr.L)
	if err != nil {
		return nil
	}
	const quiet = 2
	var lines []string
	for y := -quiet; y < code.Size+quiet; y += 2 {
		var b strings.Builder
		for x := -quiet; x < code.Size+quiet; x++ {
			upper, lower := code.Black(x, y), code.Black(x, y+1)
			switch { // light on dark ground reads as well, as long as it is the other way round everywhere
			case !upper && !lower:
				b.WriteRune('█')
			case !upper:
				b.WriteRune('▀')
			case !lower:
				b.WriteRune('▄')
			default:
				b.WriteRune(' ')
			}
		}
		lines = append(lines, b.String())
	}
	return lines
}
