package gateway

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/libp2p/go-yamux/v5"

	"meatus/core/contain"
	"meatus/core/keyfile"
	"meatus/core/line"
	"meatus/core/netchange"
	"meatus/core/retry"
	"meatus/core/sanitize"
	"meatus/core/service"
)

// JoinOptions say how a machine joins.
type JoinOptions struct {
	URLs     []string // of gateways of one store, the next where one does not answer
	Roots    *x509.CertPool
	HostKeys []string          // of gateways' certificates: no other key is taken, whoever signed it
	Key      string            // the file with the machine's own key, made with the first token
	Token    string            // to join with where it is not known yet
	SSH      string            // where the machine's SSH server listens, "host:port"
	Also     map[string]string // further destinations, "host:port", by name
	Proxy    func(*http.Request) (*url.URL, error)
	Ping     time.Duration // how often it gives a sign of life; [line.PingEvery] where 0
	Log      *slog.Logger
	Dialer   net.Dialer // to the gateway
}

// Joiner keeps a machine joined. It connects to the machine's SSH server and to further destinations by their
// names, and to nothing else.
type Joiner struct {
	JoinOptions
	cert *tls.Certificate
	wg   sync.WaitGroup
}

// Pauses between two tries to join grow from the first to the last, each by a third at most shorter or longer.
const (
	firstPause = 500 * time.Millisecond
	lastPause  = 30 * time.Second
	joinTime   = 20 * time.Second
	steady     = 10 * time.Second // what was joined for so long begins with the first pause again

	rejoinSpread = 3 * time.Second // over which those come back that have lost a gateway all at once
)

// NewJoiner returns a joiner. It makes the machine's key where there is none, and fails where one cannot be used.
func NewJoiner(o JoinOptions) (*Joiner, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	for name, to := range o.Also {
		if _, _, err := net.SplitHostPort(to); err != nil || !validOffer(name) {
			return nil, fmt.Errorf("%s=%s is no destination; write NAME=HOST:PORT", sanitize.Line(name, 40), sanitize.Line(to, 60))
		}
	}
	if _, _, err := net.SplitHostPort(o.SSH); err != nil {
		return nil, fmt.Errorf("%s is not where an SSH server listens; write HOST:PORT", sanitize.Line(o.SSH, 60))
	}
	if _, err := os.Stat(o.Key); errors.Is(err, fs.ErrNotExist) {
		if o.Token == "" {
			return nil, fmt.Errorf("%s is not there: the machine is not known yet, and joins with a token the first time", o.Key)
		}
		if err := service.WriteOwn(o.Key, "machine", x509.ExtKeyUsageClientAuth); err != nil {
			return nil, fmt.Errorf("the machine's key cannot be written: %w", err)
		}
	}
	if fault, stopped := keyfile.Inspect(o.Key).Blocked(); stopped {
		return nil, fmt.Errorf("%s is not used: %s; %s", o.Key, fault.Say, fault.Mend)
	}
	cert, err := tls.LoadX509KeyPair(o.Key, o.Key)
	if err != nil {
		return nil, fmt.Errorf("the machine's key in %s: %w", o.Key, err)
	}
	return &Joiner{JoinOptions: o, cert: &cert}, nil
}

// ErrNotLetIn says that the gateway knows the machine not, or not any more: it does not help to try again.
var ErrNotLetIn = errors.New("the gateway does not let this machine join")

// Run keeps the machine joined until the context ends, or the gateway says that it may not join.
func (j *Joiner) Run(ctx context.Context) error {
	defer j.wg.Wait()
	pauses, first := retry.Pauses(firstPause, lastPause), true
	for n := 0; ; n++ {
		at := j.URLs[n%len(j.URLs)]
		began := time.Now()
		elsewhere, err := j.join(ctx, at)
		if ctx.Err() != nil {
			return nil
		}
		var refusal *line.Refusal
		if errors.As(err, &refusal) && (refusal.Status == http.StatusUnauthorized || refusal.Status == http.StatusForbidden) {
			return fmt.Errorf("%w: %s", ErrNotLetIn, refusal.Say)
		}
		if elsewhere || time.Since(began) > steady {
			pauses.Reset()
			first = true
		}
		if elsewhere {
			j.Log.Info("the gateway ends; joining elsewhere", "url", at)
		} else {
			j.Log.Warn("not joined", "url", at, "why", whyNot(err))
		}
		wait := pauses.NextBackOff()
		if first && time.Since(began) > steady && !elsewhere {
			wait += rand.N(rejoinSpread) // many have lost the same gateway, perhaps
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(wait):
		}
		first = false
	}
}

// whyNot words why a machine is not joined.
func whyNot(err error) string {
	var invalid *tls.CertificateVerificationError
	switch {
	case err == nil:
		return "the connection ended"
	case errors.As(err, &invalid):
		return fmt.Sprintf("the certificate that it shows does not hold, and nothing was sent to it: its key is %s; %s", line.Fingerprint(invalid.UnverifiedCertificates[0].PublicKey), sanitize.Line(invalid.Err.Error(), 120))
	}
	return sanitize.Line(err.Error(), 200)
}

// join joins at one gateway, and returns when that has ended or when the gateway asks to join elsewhere.
func (j *Joiner) join(ctx context.Context, at string) (elsewhere bool, err error) {
	connecting, cancel := context.WithTimeout(ctx, joinTime)
	defer cancel()
	header := http.Header{}
	if j.Token != "" {
		header.Set(tokenHeader, j.Token)
	}
	var names []string
	for name := range j.Also {
		names = append(names, name)
	}
	if len(names) > 0 {
		header.Set(offersHeader, strings.Join(names, " "))
	}
	conn, err := line.Connect(connecting, line.Target{URL: at, Path: line.ForMachines, Roots: j.Roots, HostKeys: j.HostKeys, Pinned: true, Present: j.cert, Header: header, Proxy: j.Proxy, Dial: j.Dialer.DialContext})
	if err != nil {
		return false, err
	}
	session, err := line.MuxWith(conn, true, cmp.Or(j.Ping, line.PingEvery))
	if err != nil {
		conn.Close()
		return false, err
	}
	j.Log.Info("joined", "url", at)
	stop := context.AfterFunc(ctx, func() { session.Close() })
	leave, over := make(chan struct{}), make(chan struct{})
	j.wg.Go(func() { stillThere(session, over) })
	var once sync.Once
	j.wg.Go(func() {
		defer stop()
		defer close(over)
		for {
			stream, err := session.AcceptStream()
			if err != nil {
				return
			}
			j.wg.Go(func() {
				err := contain.Do("a stream to this machine", func() error {
					if j.serve(ctx, stream) {
						once.Do(func() { close(leave) })
					}
					return nil
				})
				if err != nil {
					stream.Reset()
				}
			})
		}
	})
	select {
	case <-over:
		return false, nil
	case <-leave: // what runs goes on until the gateway ends it
		return true, nil
	}
}

// patience is how long a gateway may take to answer after this machine's network has changed.
const patience = 3 * time.Second

// stillThere asks the gateway for a sign of life whenever this machine's network changes, and ends the connection
// where none comes: a line of before is often dead without a word.
func stillThere(session *yamux.Session, over <-chan struct{}) {
	changed, stop := netchange.Watch()
	defer stop()
	for {
		select {
		case <-over:
			return
		case <-changed:
		}
		late := time.AfterFunc(patience, func() { session.Close() })
		session.Ping()
		late.Stop()
	}
}

// serve answers one stream. It tells whether the gateway asks to join elsewhere.
func (j *Joiner) serve(ctx context.Context, stream *yamux.Stream) (leave bool) {
	stream.SetReadDeadline(time.Now().Add(joinTime))
	asked, err := line.HearMessage(stream)
	if err != nil {
		stream.Reset()
		return false
	}
	stream.SetReadDeadline(time.Time{})
	var ask line.Reach
	switch asked := asked.(type) {
	case line.Leave:
		line.Say(stream, line.Answer{})
		stream.Close()
		return true
	case line.Reach:
		ask = asked
	default:
		stream.Reset()
		return false
	}
	to, refused := j.destination(ask)
	var far net.Conn
	if refused == "" {
		dialing, cancel := context.WithTimeout(ctx, joinTime/2)
		var err error
		var dialer net.Dialer
		if far, err = dialer.DialContext(dialing, "tcp", to); err != nil {
			refused = "the machine is joined, and nothing answers at its own " + to
		}
		cancel()
	}
	if line.Say(stream, line.Answer{Refused: refused}) != nil || refused != "" {
		if far != nil {
			far.Close()
		}
		stream.Close()
		j.Log.Info("refused", "why", refused, "person", sanitize.Line(ask.Person, 64))
		return false
	}
	j.Log.Info("opened", "to", to, "person", sanitize.Line(ask.Person, 64))
	stop := context.AfterFunc(ctx, func() { far.Close() })
	defer stop()
	var c counters
	relay(stream, far.(*net.TCPConn), &c.in, &c.out)
	stream.Reset()
	return false
}

// sshPort is the port that a session names where it says none.
const sshPort = 22

// destination is where an asked stream leads, or why nowhere.
func (j *Joiner) destination(ask line.Reach) (to, refused string) {
	if ask.To != "" {
		if to = j.Also[ask.To]; to == "" {
			return "", "the machine does not lead there"
		}
		return to, ""
	}
	if _, port, _ := net.SplitHostPort(j.SSH); ask.Port != sshPort && port != fmt.Sprint(ask.Port) {
		return "", fmt.Sprintf("the machine leads to its SSH server alone, and not to port %d; leave the port out", ask.Port)
	}
	return j.SSH, ""
}
