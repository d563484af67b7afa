package estate

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"meatus/core/book"
	"meatus/core/bounded"
	"meatus/core/perm"
	"meatus/core/sanitize"
	"meatus/core/secret"
)

// readTime is how long reading a source may take.
const readTime = time.Minute

// Reading is what a source gave.
type Reading struct {
	Snapshot Snapshot
	Problems []Problem // what was left out of it
	Tag      string    // by which the source knows whether it has changed, "" for no such
	Same     bool      // nothing has changed since the tag that was asked with
	Requests int       // how many it took
}

// Source reads an estate again and again. It is for one goroutine.
type Source struct {
	Dir string // the workspace, which paths are relative to
	book.EstateSource
	Whole bool   // the next reading asks for everything, and not for what has changed alone
	cloud *cloud // of OpenStack, once it has logged in
}

// Read reads the source. tag is that of the last reading, "" for none. It waits at most a minute, and
// follows an address to no other host.
func (s *Source) Read(ctx context.Context, tag string) (Reading, error) {
	dir, e := s.Dir, s.EstateSource
	ctx, cancel := context.WithTimeout(ctx, readTime)
	defer cancel()
	var text []byte
	var err error
	r := Reading{}
	switch {
	case e.Broken != nil:
		return r, e.Broken
	case e.Kind.V == "openstack":
		r.Snapshot, err = s.ask(ctx)
		if s.cloud != nil {
			r.Requests = s.cloud.line.requests
		}
		if err != nil && errors.Is(ctx.Err(), context.DeadlineExceeded) {
			err = fmt.Errorf("it did not answer within %s", readTime)
		}
		return r, err
	case e.File.Set:
		text, err = bounded.File(inside(dir, e.File.V), MaxDocument)
	case e.URL.Set:
		r.Requests = 1
		text, r.Tag, err = fetch(ctx, dir, e, tag)
		if errors.Is(err, errSame) {
			r.Same, r.Tag = true, tag
			return r, nil
		}
	default:
		text, err = output(ctx, dir, e.Command.V)
	}
	if err != nil {
		if ctx.Err() != nil && errors.Is(ctx.Err(), context.DeadlineExceeded) {
			err = fmt.Errorf("it did not answer within %s", readTime)
		}
		return r, err
	}
	r.Snapshot, r.Problems, err = Parse(text)
	return r, err
}

// ask reads the cloud, and logs in where it has not yet.
func (s *Source) ask(ctx context.Context) (Snapshot, error) {
	c, err := s.dialled(ctx)
	if err != nil {
		return Snapshot{}, err
	}
	found, err := c.read(ctx, s.Whole)
	s.Whole = false
	if err != nil {
		return Snapshot{}, told(err)
	}
	return found, nil
}

func inside(dir, path string) string {
	if rest, ok := strings.CutPrefix(path, "~/"); ok {
		if home, err := os.UserHomeDir(); err == nil {
			return filepath.Join(home, rest)
		}
	}
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(dir, path)
}

var errSame = errors.New("it has not changed")

// fetch gets a document from an address, with the bearer token (RFC 6750 section 2.1) where one is
// named, and only where it has changed (RFC 9110 section 13.1.2).
func fetch(ctx context.Context, dir string, e book.EstateSource, tag string) (text []byte, newTag string, err error) {
	token, err := token(ctx, dir, e)
	if err != nil {
		return nil, "", err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, e.URL.V, nil)
	if err != nil {
		return nil, "", err
	}
	req.Header.Set("Accept", "application/json")
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	if tag != "" {
		req.Header.Set("If-None-Match", tag)
	}
	client := http.Client{CheckRedirect: func(req *http.Request, _ []*http.Request) error {
		return fmt.Errorf("it leads on to %s; write that address where it is the right one: no token goes along", sanitize.Line(req.URL.Redacted(), 100))
	}}
	resp, err := client.Do(req)
	if err != nil {
		return nil, "", errors.New(sanitize.Line(err.Error(), 300))
	}
	defer resp.Body.Close()
	switch {
	case resp.StatusCode == http.StatusNotModified && tag != "":
		return nil, tag, errSame
	case resp.StatusCode == http.StatusUnauthorized, resp.StatusCode == http.StatusForbidden:
		return nil, "", fmt.Errorf("%s: the token is not taken; see token_file, token_env or token_command", resp.Status)
	case resp.StatusCode == http.StatusTooManyRequests, resp.StatusCode == http.StatusServiceUnavailable:
		return nil, "", &Busy{sanitize.Line(resp.Status, 60), retryAfter(resp.Header.Get("Retry-After"), time.Now())}
	case resp.StatusCode != http.StatusOK:
		return nil, "", fmt.Errorf("it answers %s", sanitize.Line(resp.Status, 60))
	}
	text, err = bounded.Read(resp.Body, MaxDocument)
	if err == nil && bytes.HasPrefix(bytes.TrimSpace(text), []byte("<")) {
		err = errors.New("it answers with a page, not with a document; is the address the right one?")
	}
	return text, resp.Header.Get("ETag"), err
}

// Busy is a source that asks to be left alone for a while.
type Busy struct {
	Says  string        // as it was put
	After time.Duration // how long, 0 where it does not say
}

func (b *Busy) Error() string {
	if b.After == 0 {
		return b.Says + "; it is asked again later"
	}
	return fmt.Sprintf("%s; it wants to be asked again after %s", b.Says, b.After.Round(time.Second))
}

// longestWait bounds how long a source can have itself left alone.
const longestWait = time.Hour

// retryAfter is how long a header asks to wait, in seconds or until a date (RFC 9110 section 10.2.3); at
// most an hour, and 0 where it says nothing that can be read.
func retryAfter(header string, now time.Time) time.Duration {
	d := time.Duration(0)
	if n, err := strconv.ParseUint(strings.TrimSpace(header), 10, 31); err == nil {
		d = time.Duration(n) * time.Second
	} else if at, err := http.ParseTime(header); err == nil {
		d = at.Sub(now)
	}
	return max(min(d, longestWait), 0)
}

// token is the bearer token of a source, "" for none. A file with one is judged as a key file is.
func token(ctx context.Context, dir string, e book.EstateSource) (string, error) {
	switch {
	case e.TokenCommand.Set:
		text, err := output(ctx, dir, e.TokenCommand.V)
		if err != nil {
			return "", fmt.Errorf("the token's command: %w", err)
		}
		defer clear(text)
		return oneToken(text, "what "+sanitize.Name(e.TokenCommand.V[0])+" prints")
	case e.TokenEnv.Set:
		v := os.Getenv(e.TokenEnv.V)
		secret.Hide(e.TokenEnv.V)
		if v == "" {
			return "", fmt.Errorf("the variable %s, which token_env names, is not set", sanitize.Line(e.TokenEnv.V, 40))
		}
		return strings.TrimSpace(v), nil
	case e.TokenFile.Set:
		path := inside(dir, e.TokenFile.V)
		if err := judgeSecret(path, "the token"); err != nil {
			return "", err
		}
		text, err := bounded.File(path, MaxDocument)
		if err != nil {
			return "", err
		}
		defer clear(text)
		return oneToken(text, path)
	}
	return "", nil
}

// oneToken is the token that stands alone in a text.
func oneToken(text []byte, where string) (string, error) {
	token := strings.TrimSpace(string(text))
	if token == "" || strings.ContainsAny(token, "\r\n") {
		return "", fmt.Errorf("%s does not hold one token in a line", where)
	}
	return token, nil
}

// judgeSecret judges a file with a secret in it as a key file is judged.
func judgeSecret(path, what string) error {
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	if err := perm.Judge(path); err != nil {
		return err
	}
	if info.Mode().Perm()&0o077 != 0 {
		return fmt.Errorf("%s has mode %04o: others can read %s; set mode 0600", path, info.Mode().Perm(), what)
	}
	return nil
}

// limited takes so much, and no more.
type limited struct {
	bytes.Buffer
	most int
}

func (l *limited) Write(p []byte) (int, error) {
	if l.Len()+len(p) > l.most {
		return 0, fmt.Errorf("it prints more than %d MB", l.most>>20)
	}
	return l.Buffer.Write(p)
}

// output is what a command of a person's prints. It is run by no shell, in the workspace's folder.
func output(ctx context.Context, dir string, command []string) ([]byte, error) {
	cmd := exec.CommandContext(ctx, command[0], command[1:]...)
	cmd.Dir, cmd.WaitDelay, cmd.Env = dir, time.Second, secret.Environ()
	out, errs := limited{most: MaxDocument + 1}, limited{most: 1 << 16}
	cmd.Stdout, cmd.Stderr = &out, &errs
	if err := cmd.Run(); err != nil {
		return nil, fmt.Errorf("%s: %w %s", sanitize.Name(command[0]), err, sanitize.Line(errs.String(), 200))
	}
	return out.Bytes(), nil
}
