// Package line is one connection to a gateway, as both of its ends see it: WebSocket (RFC 6455) over TLS, and in it
// many streams. The first one that a person opens is SSH, which says who it is. docs/gateway.md tells the protocol.
package line

import (
	"context"
	"crypto"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"time"

	"github.com/coder/websocket"
	"github.com/libp2p/go-yamux/v5"
	"golang.org/x/crypto/ssh"

	"meatus/core/sanitize"
)

// The paths at a gateway, behind whatever path its URL has.
const (
	ForPersons  = "/v1/person"
	ForMachines = "/v1/machine"
	ForGateways = "/v1/gateway"
)

// Target is a gateway to connect to.
type Target struct {
	URL      string // "wss://..."
	Path     string // one of the paths above
	Roots    *x509.CertPool
	HostKeys []string         // fingerprints: a certificate with one of these keys holds, whoever signed it
	Pinned   bool             // and where keys are named no other certificate holds, whoever signed it
	Present  *tls.Certificate // our own, nil for none
	Header   http.Header
	Proxy    func(*http.Request) (*url.URL, error)
	Dial     func(ctx context.Context, network, address string) (net.Conn, error)
}

// Conn is a connection to a gateway.
type Conn struct {
	net.Conn
	Key    ssh.PublicKey // of the certificate that it showed
	Issuer string        // who signed that, cleaned
	Cipher string        // of what passes: the name of TLS's cipher suite
}

// Refusal is a gateway's answer that it takes no connection.
type Refusal struct {
	Status int    // of HTTP, 0 over a stream
	Reason Reason // over a stream
	Say    string // cleaned
}

func (r *Refusal) Error() string { return r.Say }

// Cut is why a gateway ends a stream that runs. It goes as the error code of the stream's reset.
type Cut uint32

// The reasons.
const (
	CutUnsaid   Cut = iota // as connections end
	CutByPolicy            // the policy changed, or its time is over
	CutByLimit             // what may be moved in a day is used up
	CutEnding              // the gateway ends
)

// String says the reason, "" for none that is known.
func (c Cut) String() string {
	switch c {
	case CutByPolicy:
		return "its policy does not allow it any more"
	case CutByLimit:
		return "what may be moved in a day is used up"
	case CutEnding:
		return "the gateway itself is ending"
	}
	return ""
}

// CutOf is why the far side ended a stream, by the error that reading from it fails with.
func CutOf(err error) Cut {
	var reset *yamux.StreamError
	if errors.As(err, &reset) && reset.Remote {
		return Cut(reset.ErrorCode)
	}
	return CutUnsaid
}

// maxRefusal is how much of a refusal is read, in bytes.
const maxRefusal = 1 << 10

// Connect connects to a gateway. It fails with a [Refusal] where what answers takes no connection, with a
// [tls.CertificateVerificationError] where its certificate does not hold, and with the network's errors.
func Connect(ctx context.Context, t Target) (*Conn, error) {
	u, err := url.Parse(t.URL)
	if err != nil || u.Scheme != "wss" {
		return nil, fmt.Errorf("%q is no gateway's URL", sanitize.Line(t.URL, 60))
	}
	c := &Conn{}
	config := &tls.Config{MinVersion: tls.VersionTLS13, RootCAs: t.Roots, NextProtos: []string{"http/1.1"}, DynamicRecordSizingDisabled: true}
	config.ServerName = u.Hostname() // by which what stands before several chooses (RFC 6066 section 3)
	if t.Present != nil {
		config.GetClientCertificate = func(*tls.CertificateRequestInfo) (*tls.Certificate, error) { return t.Present, nil }
	}
	config.InsecureSkipVerify = true // VerifyConnection does it, by the key where that is known
	config.VerifyConnection = func(s tls.ConnectionState) (err error) {
		leaf := s.PeerCertificates[0]
		if c.Key, err = ssh.NewPublicKey(leaf.PublicKey); err != nil {
			return err
		}
		c.Cipher = tls.CipherSuiteName(s.CipherSuite)
		c.Issuer = sanitize.Line(leaf.Issuer.CommonName, 60)
		if slices.Contains(t.HostKeys, ssh.FingerprintSHA256(c.Key)) {
			return nil
		}
		if t.Pinned && len(t.HostKeys) > 0 {
			return &tls.CertificateVerificationError{UnverifiedCertificates: s.PeerCertificates, Err: errors.New("it has another key than the one that is named")}
		}
		between := x509.NewCertPool()
		for _, cert := range s.PeerCertificates[1:] {
			between.AddCert(cert)
		}
		if _, err := leaf.Verify(x509.VerifyOptions{DNSName: u.Hostname(), Roots: t.Roots, Intermediates: between}); err != nil {
			return &tls.CertificateVerificationError{UnverifiedCertificates: s.PeerCertificates, Err: err}
		}
		return nil
	}
	transport := &http.Transport{TLSClientConfig: config, Proxy: t.Proxy, DialContext: t.Dial, DisableKeepAlives: true}
	transport.DialTLSContext = func(ctx context.Context, network, address string) (net.Conn, error) { // where there is no proxy
		dial := t.Dial
		if dial == nil {
			dial = (&net.Dialer{}).DialContext
		}
		raw, err := dial(ctx, network, address)
		if err != nil {
			return nil, err
		}
		secure := tls.Client(raw, config)
		if err := secure.HandshakeContext(ctx); err != nil {
			raw.Close()
			return nil, err
		}
		return batch(secure), nil
	}
	at := u.JoinPath(t.Path)
	ws, response, err := websocket.Dial(ctx, at.String(), &websocket.DialOptions{HTTPClient: &http.Client{Transport: transport, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}, HTTPHeader: t.Header})
	if err != nil {
		if response != nil && response.StatusCode != http.StatusSwitchingProtocols {
			said, _ := io.ReadAll(io.LimitReader(response.Body, maxRefusal))
			say := sanitize.Line(string(said), 200)
			if response.Header.Get(Mark) == "" {
				say = "what answers there is no gateway: " + sanitize.Line(response.Status, 60)
			}
			return nil, &Refusal{Status: response.StatusCode, Say: say}
		}
		var within *url.Error
		if errors.As(err, &within) {
			err = within.Err
		}
		return nil, err
	}
	c.Conn = websocket.NetConn(context.WithoutCancel(ctx), ws, websocket.MessageBinary)
	return c, nil
}

// Mark is a header of every answer of a gateway, which tells it from other servers.
const Mark = "Meatus-Gateway"

// Accept takes the connection that a request asks for.
func Accept(w http.ResponseWriter, r *http.Request) (net.Conn, error) {
	ws, err := websocket.Accept(batchedWriter{w}, r, &websocket.AcceptOptions{CompressionMode: websocket.CompressionDisabled})
	if err != nil {
		return nil, err
	}
	return websocket.NetConn(context.WithoutCancel(r.Context()), ws, websocket.MessageBinary), nil
}

// Fingerprint is the SHA-256 fingerprint of a public key as SSH has it (RFC 4253 section 6.6), "" for a kind of
// key that it does not know.
func Fingerprint(public any) string {
	key, err := ssh.NewPublicKey(public)
	if err != nil {
		return ""
	}
	sum := sha256.Sum256(key.Marshal())
	return "SHA256:" + base64.RawStdEncoding.EncodeToString(sum[:])
}

// Bounds of a connection with many streams.
const (
	streamWindow = 4 << 20          // what may be under way of one, in bytes
	PingEvery    = 15 * time.Second // a sign of life of whoever dialled
	silence      = 40 * time.Second // after which the other side is gone
)

// Mux makes a connection one with many streams, each with its own flow control. Whoever dialled gives a sign of life
// every [PingEvery]; a side that gives none for 40 seconds is gone.
func Mux(conn net.Conn, dialled bool) (*yamux.Session, error) {
	return MuxWith(conn, dialled, PingEvery)
}

// MuxWith is Mux with signs of life at another interval, for what closes lines that are idle.
func MuxWith(conn net.Conn, dialled bool, every time.Duration) (*yamux.Session, error) {
	conn = listening{conn}
	if dialled {
		return yamux.Client(conn, muxConfig(dialled, every), nil)
	}
	return yamux.Server(conn, muxConfig(dialled, every), nil)
}

func muxConfig(dialled bool, every time.Duration) *yamux.Config {
	config := yamux.DefaultConfig()
	config.LogOutput = io.Discard
	config.ReadBufSize = 0 // the WebSocket has one
	config.MaxStreamWindowSize = streamWindow
	config.MaxMessageSize = 32 << 10
	config.EnableKeepAlive, config.KeepAliveInterval = dialled, every
	config.MeasureRTTInterval = time.Hour // nobody reads it
	return config
}

// listening is a connection that ends where nothing comes.
type listening struct{ net.Conn }

func (l listening) Read(p []byte) (int, error) {
	l.SetReadDeadline(time.Now().Add(silence))
	return l.Conn.Read(p)
}

// Answer is said to a [Message]. Nothing refused is a yes: what follows is the stream.
type Answer struct {
	Refused string `json:"refused,omitempty"`
	Reason  Reason `json:"reason,omitempty"`
}

// Reason tells refusals apart.
type Reason string

// The reasons.
const (
	NotAllowed Reason = "not allowed" // by the policy
	NoRoom     Reason = "no room"     // a limit is reached
	NotThere   Reason = "not there"   // the machine is not joined, or nothing answers at it
)

// Listed is a machine as whoever may reach it is told.
type Listed struct {
	Name     string    `json:"name"`
	Instance string    `json:"instance,omitempty"`
	Tags     []string  `json:"tags,omitempty"`
	Offers   []string  `json:"offers,omitempty"`
	Joined   time.Time `json:"joined,omitzero"` // since when, zero where it is not
}

// Entry is one of a gateway's record.
type Entry struct {
	Number int64  `json:"number"`
	Body   string `json:"body"`
}

// MaxEntries is how many entries of the record are told at once.
const MaxEntries = 5000

// maxTold is how much is read of what a gateway tells, in bytes.
const maxTold = 16 << 20

// Told reads what follows a question: JSON values, each in a line, to the end.
func Told[T any](r io.Reader) ([]T, error) {
	var all []T
	d := json.NewDecoder(io.LimitReader(r, maxTold))
	for {
		var one T
		err := d.Decode(&one)
		if err == io.EOF {
			return all, nil
		}
		if err != nil {
			return nil, fmt.Errorf("what the gateway tells cannot be read: %w", err)
		}
		all = append(all, one)
	}
}

// maxSaid is how long what is said over a stream first may be, in bytes.
const maxSaid = 4 << 10

// ErrTooLong says that what a stream begins with is longer than it may be.
var ErrTooLong = errors.New("what it says is longer than it may be")

// Say writes a message: its length in two bytes, the high one first, and JSON.
func Say(w io.Writer, message any) error {
	text, err := json.Marshal(message)
	if err != nil {
		return err
	}
	if len(text) > maxSaid {
		return ErrTooLong
	}
	_, err = w.Write(append(binary.BigEndian.AppendUint16(nil, uint16(len(text))), text...))
	return err
}

// Hear reads a message, and nothing behind it.
func Hear(r io.Reader, message any) error {
	var head [2]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return err
	}
	n := binary.BigEndian.Uint16(head[:])
	if n > maxSaid {
		return ErrTooLong
	}
	text := make([]byte, n)
	if _, err := io.ReadFull(r, text); err != nil {
		return err
	}
	return json.Unmarshal(text, message)
}

// Stream is one of many, or a channel. Its two directions end apart.
type Stream interface {
	io.ReadWriteCloser
	CloseWrite() error
}

// answerTime is how long a far side may take to answer what it is asked over a stream.
const answerTime = 20 * time.Second

// Open opens a stream and asks for something over it. It fails with a [Refusal] where the far side says no.
func Open(ctx context.Context, s *yamux.Session, m Message) (*yamux.Stream, error) {
	ctx, cancel := context.WithTimeout(ctx, answerTime)
	defer cancel()
	stream, err := s.OpenStream(ctx)
	if err != nil {
		return nil, err
	}
	stop := context.AfterFunc(ctx, func() { stream.Reset() })
	var answer Answer
	if err = Say(stream, m.wire()); err == nil {
		err = Hear(stream, &answer)
	}
	if !stop() {
		return nil, fmt.Errorf("no answer: %w", context.Cause(ctx))
	}
	if err == nil && answer.Refused != "" {
		err = &Refusal{Reason: answer.Reason, Say: sanitize.Line(answer.Refused, 300)}
	}
	if err != nil {
		stream.Reset()
		return nil, err
	}
	return stream, nil
}

// FingerprintOf is that of a certificate's key.
func FingerprintOf(cert *tls.Certificate) string {
	if signer, ok := cert.PrivateKey.(crypto.Signer); ok {
		return Fingerprint(signer.Public())
	}
	return ""
}
