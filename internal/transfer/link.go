package transfer

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"slices"
	"sync"
	"time"

	"github.com/hashicorp/yamux"
)

// Identity is a site's own key and the certificate that shows it.
type Identity struct {
	Key  ed25519.PrivateKey
	cert tls.Certificate
}

// NewIdentity makes the certificate for a key. The certificate only carries the key:
// peers compare the key with the one they pinned and ignore the rest.
func NewIdentity(key ed25519.PrivateKey) (*Identity, error) {
	t := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: time.Unix(946684800, 0), NotAfter: time.Unix(7258118400,
		0)}
	der, err := x509.CreateCertificate(rand.Reader, t, t, key.Public(), key)
	if err != nil {
		return nil, err
	}
	return &Identity{Key: key, cert: tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}}, nil
}

// Public returns the site's public key.
func (id *Identity) Public() ed25519.PublicKey { return id.Key.Public().(ed25519.PublicKey) }

// KeyText writes a key the way the catalogue and invitations hold it.
func KeyText(k ed25519.PublicKey) string { return hex.EncodeToString(k) }

// KeyError says that a peer showed another key than the pinned one.
type KeyError struct{ Want, Got string }

func (e *KeyError) Error() string {
	return fmt.Sprintf("the site at that address has the key %.16s…, not the paired %.16s…: another machine answers, "+
		"or the site was set up anew; nothing was sent. Pair again if that is meant", e.Got, e.Want)
}

func keyOf(raw [][]byte) (ed25519.PublicKey, error) {
	if len(raw) == 0 {
		return nil, errors.New("the peer showed no certificate")
	}
	c, err := x509.ParseCertificate(raw[0])
	if err != nil {
		return nil, err
	}
	k, ok := c.PublicKey.(ed25519.PublicKey)
	if !ok {
		return nil, errors.New("the peer's key is not an Ed25519 key")
	}
	return k, nil
}

func (id *Identity) config(want []ed25519.PublicKey) *tls.Config {
	return &tls.Config{
		MinVersion:   tls.VersionTLS13,
		Certificates: []tls.Certificate{id.cert},
		NextProtos:   []string{"candid-harbor/1"},
		ClientAuth:   tls.RequireAnyClientCert,
		// The chain is not what is trusted: the key is, right below.
		InsecureSkipVerify:     true,
		SessionTicketsDisabled: true,
		// Records that begin small are for pages that are shown while they come.
		DynamicRecordSizingDisabled: true,
		VerifyPeerCertificate: func(raw [][]byte, _ [][]*x509.Certificate) error {
			k, err := keyOf(raw)
			if err == nil && len(want) > 0 && !slices.ContainsFunc(want, func(w ed25519.PublicKey) bool { return k.Equal(w) }) {
				err = &KeyError{Want: KeyText(want[0]), Got: KeyText(k)}
			}
			return err
		},
	}
}

// Link is an authenticated connection to a peer.
type Link struct {
	mux     *yamux.Session
	Key     ed25519.PublicKey // the peer's
	Own     ed25519.PublicKey // that this end shows
	Address string            // its other end
	Dialled bool              // by this end
	// Stranger says that nobody knows the other end's key: it may ask little, and only to pair.
	Stranger bool
}

func muxConfig() *yamux.Config {
	c := yamux.DefaultConfig()
	c.MaxStreamWindowSize = 16 << 20 // a long round trip must not leave the line idle
	c.StreamOpenTimeout = 30 * time.Second
	c.ConnectionWriteTimeout = 30 * time.Second
	c.LogOutput = io.Discard
	return c
}

// Dial connects to a peer that must show one of the given keys.
func Dial(ctx context.Context, address string, id *Identity, want ...ed25519.PublicKey) (*Link, error) {
	plain, err := (&net.Dialer{Timeout: 10 * time.Second}).DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, err
	}
	return Over(ctx, plain, address, id, want...)
}

// Over makes a link over a connection to a peer that must show one of the given keys.
func Over(ctx context.Context, plain net.Conn, address string, id *Identity, want ...ed25519.PublicKey) (*Link, error) {
	line := &gatherer{Conn: plain}
	conn := tls.Client(line, id.config(want))
	hctx, cancel := context.WithTimeout(ctx, 15*time.Second)
	defer cancel()
	if err := conn.HandshakeContext(hctx); err != nil {
		plain.Close()
		return nil, err
	}
	key := conn.ConnectionState().PeerCertificates[0].PublicKey.(ed25519.PublicKey) // as VerifyPeerCertificate saw
	mux, err := yamux.Client(&gathering{conn, line}, muxConfig())
	if err != nil {
		conn.Close()
		return nil, err
	}
	return &Link{mux: mux, Key: key, Own: id.Public(), Address: address, Dialled: true}, nil
}

// Accept proves who a caller is and returns the link to it. Its key need not be known.
// knows tells whether a key is a peer's. Who is none gets little of everything.
func Accept(ctx context.Context, conn net.Conn, id *Identity, knows func(ed25519.PublicKey) bool) (*Link, error) {
	line := &gatherer{Conn: conn}
	tc := tls.Server(line, id.config(nil))
	hctx, cancel := context.WithTimeout(ctx, 15*time.Second)
	defer cancel()
	if err := tc.HandshakeContext(hctx); err != nil {
		tc.Close()
		return nil, err
	}
	key, ok := tc.ConnectionState().PeerCertificates[0].PublicKey.(ed25519.PublicKey)
	if !ok {
		tc.Close()
		return nil, errors.New("the peer's key is not an Ed25519 key")
	}
	cfg, stranger := muxConfig(), !knows(key)
	if stranger {
		cfg.MaxStreamWindowSize, cfg.AcceptBacklog = strangerWindow, strangerStreams
	}
	mux, err := yamux.Server(&gathering{tc, line}, cfg)
	if err != nil {
		tc.Close()
		return nil, err
	}
	return &Link{mux: mux, Key: key, Own: id.Public(), Address: conn.RemoteAddr().String(), Stranger: stranger}, nil
}

// What a stranger gets, who can only pair.
const (
	strangerStreams = 2
	strangerFrame   = 64 << 10
	strangerWindow  = 256 << 10 // the least that yamux allows
)

// mostStreams is how many streams a peer may have open at once.
const mostStreams = 128

// Serve gives every stream that the other end opens to handle, until the link ends.
// Both ends of a link may open streams, whoever dialled. The context that handle is given ends
// with the link, and Serve returns when all of them have.
func (l *Link) Serve(ctx context.Context, handle func(ctx context.Context, l *Link, s *Stream)) error {
	ctx, cancel := context.WithCancel(ctx)
	var answering sync.WaitGroup
	defer func() {
		l.mux.Close()
		cancel()
		answering.Wait()
	}()
	stop := context.AfterFunc(ctx, func() { l.mux.Close() })
	defer stop()
	large := make(chan struct{}, mostLarge)
	slots, stream := make(chan struct{}, mostStreams), func(c net.Conn) *Stream {
		s := newStream(c)
		s.large = large
		return s
	}
	if l.Stranger {
		slots = make(chan struct{}, strangerStreams)
		stream = func(c net.Conn) *Stream { return sizedStream(c, strangerFrame, 4<<10) }
	}
	for {
		c, err := l.mux.AcceptStream()
		if err != nil {
			if errors.Is(err, io.EOF) || errors.Is(err, yamux.ErrSessionShutdown) || ctx.Err() != nil {
				return nil
			}
			return err
		}
		select {
		case slots <- struct{}{}:
		default:
			c.Close() // more at once than any honest peer needs
			continue
		}
		answering.Go(func() {
			defer func() { <-slots }()
			s := stream(c)
			defer s.small()
			defer s.Close()
			handle(ctx, l, s)
		})
	}
}

// Close ends the link and all its streams.
func (l *Link) Close() error { return l.mux.Close() }

// Up reports whether the link has not ended, without asking the peer.
func (l *Link) Up() bool { return !l.mux.IsClosed() }

// Alive reports whether the peer still answers; a link that does not is closed.
func (l *Link) Alive() bool {
	if l.mux.IsClosed() {
		return false
	}
	if _, err := l.mux.Ping(); err != nil {
		l.mux.Close()
		return false
	}
	return true
}

// Open begins a stream with a request.
func (l *Link) Open(op string, body any) (*Stream, error) {
	c, err := l.mux.OpenStream()
	if err != nil {
		return nil, err
	}
	s := newStream(c)
	raw, err := encode(body)
	if err == nil {
		err = s.send(frameRequest, request{Version: Version, Op: op, Body: raw})
	}
	if err == nil {
		err = s.flush()
	}
	if err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}
