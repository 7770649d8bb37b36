package outlet

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"net"
	"net/url"
	"path"
	"strings"
	"syscall"
	"time"

	"candidharbor/internal/refusal"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
	"golang.org/x/sys/unix"
)

const (
	greetPatience = 15 * time.Second // until a machine let this site in
	deadAfter     = time.Minute      // a machine that acknowledges nothing for that long is gone
	protocol      = "sftp"
)

// address is where an outlet is, as sftp://user@host:port/dir.
type address struct{ user, host, dir string }

func (a address) String() string {
	return (&url.URL{Scheme: protocol, User: url.User(a.user), Host: strings.TrimSuffix(a.host, ":22"),
		Path: a.dir}).String()
}

// parseAddress reads an address.
func parseAddress(text string) (a address, err error) {
	u, err := url.Parse(text)
	if err != nil || u.Scheme != protocol || u.Hostname() == "" || u.User.Username() == "" || u.RawQuery != "" ||
		u.Fragment != "" {
		return a, refusal.Badf("address %q: write sftp://USER@HOST/DIR, with :PORT after the host where it is not 22", text)
	}
	if _, secret := u.User.Password(); secret {
		return a, refusal.Badf("a password is not taken: let the key of this site in there, which candid outlet key shows")
	}
	port := u.Port()
	if port == "" {
		port = "22"
	}
	a = address{user: u.User.Username(), host: net.JoinHostPort(u.Hostname(), port), dir: path.Clean(u.Path)}
	if a.dir == "." || a.dir == "/" {
		return a, refusal.Badf("address %q: name a directory of its own, not the machine's topmost one", text)
	}
	return a, nil
}

// otherKey is the error of a machine that shows another key than the one that is known, or one while none is.
type otherKey struct{ shown ssh.PublicKey }

func (k *otherKey) Error() string { return "it shows the key " + ssh.FingerprintSHA256(k.shown) }

// notIn is the error of a machine that does not let this site in.
type notIn struct{ err error }

func (n *notIn) Error() string { return n.err.Error() }
func (n *notIn) Unwrap() error { return n.err }

// host is a machine that is connected to.
type host struct {
	*sftp.Client
	ssh  *ssh.Client
	stop func() bool
}

// knownKey reads a host's key as a file of known hosts has it: its kind and base64.
func knownKey(text string) (ssh.PublicKey, error) {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(text))
	return key, err
}

// dial connects to a machine that must show a key which is good, until ctx ends.
func dial(ctx context.Context, a address, own ed25519.PrivateKey, kind string, good func(ssh.PublicKey) bool) (*host,
	error) {
	signer, err := ssh.NewSignerFromKey(own)
	if err != nil {
		return nil, err
	}
	var shown ssh.PublicKey
	wrong := false
	conf := &ssh.ClientConfig{User: a.user, Auth: []ssh.AuthMethod{ssh.PublicKeys(signer)}, Timeout: greetPatience,
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			if shown = key; !good(key) {
				wrong = true
				return &otherKey{key}
			}
			return nil
		}}
	if kind != "" { // a machine has several keys: the known one is asked for
		conf.HostKeyAlgorithms = []string{kind}
		if kind == ssh.KeyAlgoRSA {
			conf.HostKeyAlgorithms = []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
		}
	}
	dialer := net.Dialer{Timeout: greetPatience, Control: func(_, _ string, c syscall.RawConn) (err error) {
		cerr := c.Control(func(fd uintptr) {
			err = unix.SetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_USER_TIMEOUT, int(deadAfter.Milliseconds()))
		})
		return errors.Join(cerr, err)
	}}
	plain, err := dialer.DialContext(ctx, "tcp", a.host)
	if err != nil {
		return nil, err
	}
	stop := context.AfterFunc(ctx, func() { plain.Close() })
	fail := func(err error) (*host, error) {
		stop()
		plain.Close()
		switch {
		case ctx.Err() != nil:
			return nil, ctx.Err()
		case wrong:
			return nil, &otherKey{shown}
		case shown != nil && !lost(err): // it has proven its key: what is left is to be let in
			return nil, &notIn{fmt.Errorf("it does not let this site in as %s", a.user)}
		}
		return nil, err
	}
	if err := plain.SetDeadline(time.Now().Add(greetPatience)); err != nil {
		return fail(err)
	}
	conn, channels, requests, err := ssh.NewClientConn(plain, a.host, conf)
	if err != nil {
		return fail(err)
	}
	client := ssh.NewClient(conn, channels, requests)
	files, err := sftp.NewClient(client, sftp.UseConcurrentWrites(true), sftp.UseConcurrentReads(true))
	if err != nil {
		client.Close()
		return fail(&notIn{fmt.Errorf("it lets this site in, but offers no files by SFTP: %w", err)})
	}
	if err := plain.SetDeadline(time.Time{}); err != nil {
		client.Close()
		return fail(err)
	}
	return &host{Client: files, ssh: client, stop: stop}, nil
}

func (h *host) Close() error {
	h.stop()
	err := h.Client.Close()
	h.ssh.Close() // ends with the other end's farewell or without
	return err
}
