// Package service puts a site on the network: the console and API on an address and on
// the site's socket, and the listener for other sites.
package service

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"log/slog"
	"math/big"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"sync"
	"time"

	"candidharbor/api"
	"candidharbor/internal/access"
	"candidharbor/internal/datadir"
	"candidharbor/internal/httpapi"
	"candidharbor/internal/limit"
	"candidharbor/internal/site"
)

// Service is a site being served.
type Service struct {
	Site        *site.Site
	URL         string // of the console
	Socket      string // for --site
	PeerAddress string
	DiskAddress string    // for hosts that open disks; empty: there is none
	Fingerprint string    // of the console's certificate, when it has one
	FirstToken  api.Token // of a new site
	Failed      <-chan error

	web, local *http.Server
	answered   func() // waits for the requests that they have begun to answer
	ctx        context.Context
	stop       context.CancelFunc
	serving    sync.WaitGroup
}

// Start opens the site and serves it. The schedule is not kept yet.
func Start(opt site.Options) (*Service, error) {
	if opt.OnPlace == nil { // a further place answers over the line within the site alone
		opt.OnPlace = func(p *site.Site) {
			serve := p.Pairing.AnswerRemote(httpapi.New(p))
			p.Run.Go(func(context.Context) { serve() })
		}
	}
	s, err := site.Open(opt)
	if err != nil {
		return nil, err
	}
	svc := &Service{Site: s}
	svc.ctx, svc.stop = context.WithCancel(context.Background())
	if opt.Logger == nil {
		opt.Logger = slog.New(slog.DiscardHandler)
	}
	if err := svc.listen(opt.Logger); err != nil {
		svc.Stop()
		return nil, err
	}
	if svc.FirstToken, err = s.Access.FirstToken(); err != nil {
		svc.Stop()
		return nil, err
	}
	return svc, nil
}

func listen(network, addr string) (net.Listener, error) {
	l, err := net.Listen(network, addr)
	if err != nil {
		return nil, fmt.Errorf("address %s cannot be listened on: %w; choose another with --listen or in site.yaml", addr,
			err)
	}
	return l, nil
}

// listenForDisks makes the socket for clients of disks, which this user and root may open.
func listenForDisks(path string) (net.Listener, error) {
	if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	l, err := listen("unix", path)
	if err != nil {
		return nil, err
	}
	return l, os.Chmod(path, 0o600)
}

// console is the address of the console for browsers: where all of the host's are listened on, by the host's name.
func (svc *Service) console(host string) string {
	if ip := net.ParseIP(host); host != "" && (ip == nil || !ip.IsUnspecified()) {
		return svc.URL
	}
	name, err := os.Hostname()
	u, uerr := url.Parse(svc.URL)
	if err != nil || uerr != nil {
		return svc.URL
	}
	u.Host = net.JoinHostPort(name, u.Port())
	return u.String()
}

func (svc *Service) listen(log *slog.Logger) error {
	cfg := svc.Site.Conf
	failed := make(chan error, 5)
	svc.Failed = failed
	handler, answered := limit.Joined(httpapi.New(svc.Site))
	svc.answered = answered
	path := filepath.Join(svc.Site.Path, "candid.sock")
	if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err // nobody else serves it: the data directory is locked
	}
	sock, err := listen("unix", path)
	if err != nil {
		return err
	}
	if err := os.Chmod(path, 0o600); err != nil {
		return err
	}
	svc.Socket = "unix:" + path
	disks, err := listenForDisks(svc.Site.Disks.Socket())
	if err != nil {
		return err
	}
	web, err := listen("tcp", cfg.Listen)
	if err != nil {
		return err
	}
	web = bounded(web)
	svc.URL = "http://" + web.Addr().String()
	host, _, err := net.SplitHostPort(cfg.Listen)
	if err != nil {
		return err
	}
	if !loopback(host) || cfg.TLSCert != "" {
		cert, err := certificate(cfg, svc.Site.Path, host)
		if err != nil {
			return err
		}
		sum := sha256.Sum256(cert.Certificate[0])
		svc.Fingerprint = hex.EncodeToString(sum[:])
		svc.URL = "https://" + web.Addr().String()
		web = tls.NewListener(web, &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{cert},
			NextProtos: []string{"h2", "http/1.1"}})
	}
	svc.Site.Console = svc.console(host)
	peers, err := listen("tcp", cfg.PeerListen)
	if err != nil {
		return err
	}
	svc.PeerAddress = peers.Addr().String()
	var hosts net.Listener
	if cfg.DiskListen != "" {
		if hosts, err = listen("tcp", cfg.DiskListen); err != nil {
			return err
		}
		svc.DiskAddress = hosts.Addr().String()
	}
	// What strangers send that is no request is worth a line only to who looks for it.
	quiet := slog.NewLogLogger(log.Handler(), slog.LevelDebug)
	svc.web = &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		ErrorLog: quiet}
	svc.local = &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		ErrorLog: quiet, ConnContext: httpapi.LocalConn}
	serve := func(srv *http.Server, l net.Listener) {
		if err := srv.Serve(l); !errors.Is(err, http.ErrServerClosed) {
			failed <- err
		}
	}
	svc.serving.Go(func() { serve(svc.web, web) })
	svc.serving.Go(func() { serve(svc.local, sock) })
	svc.serving.Go(func() {
		if err := svc.Site.Disks.Serve(svc.ctx, disks); err != nil {
			failed <- err
		}
	})
	if hosts != nil {
		svc.serving.Go(func() {
			if err := svc.Site.Disks.ServeHosts(svc.ctx, bounded(hosts)); err != nil {
				failed <- err
			}
		})
	}
	svc.serving.Go(svc.Site.Pairing.AnswerRemote(handler)) // before a site can ask over its line
	svc.serving.Go(func() { svc.Site.Pairing.ServePeers(bounded(peers)) })
	return nil
}

// Work keeps the schedule, the lines to other sites and the disks until the service stops.
func (svc *Service) Work() {
	svc.serving.Go(func() { svc.Site.KeepSchedule(svc.ctx) })
	svc.serving.Go(func() { svc.Site.Pairing.KeepLines(svc.ctx) })
	svc.serving.Go(func() { svc.Site.Disks.Keep(svc.ctx) })
	svc.serving.Go(func() { svc.Site.Disks.Follow(svc.ctx) })
}

func loopback(host string) bool {
	if host == "localhost" {
		return true
	}
	ip := net.ParseIP(host)
	return ip != nil && ip.IsLoopback()
}

// Stop ends listening and running work, and closes the site.
func (svc *Service) Stop() {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	for _, srv := range []*http.Server{svc.web, svc.local} {
		if srv != nil && srv.Shutdown(ctx) != nil {
			srv.Close()
		}
	}
	svc.stop()
	svc.Site.Run.Stop() // what requests still wait for
	if svc.answered != nil {
		svc.answered()
	}
	svc.serving.Wait()
	svc.Site.Close()
}

// certificate loads the console's certificate, making one when none is named.
func certificate(cfg datadir.Config, dir, host string) (tls.Certificate, error) {
	if cfg.TLSCert != "" {
		cert, err := tls.LoadX509KeyPair(cfg.TLSCert, cfg.TLSKey)
		if err != nil {
			err = fmt.Errorf("tls_cert %s and tls_key %s of site.yaml cannot be used: %w; leave both out and the site "+
				"makes its own", cfg.TLSCert, orNone(cfg.TLSKey), err)
		}
		return cert, err
	}
	certFile, keyFile := filepath.Join(dir, "keys", "console.crt"), filepath.Join(dir, "keys", "console.key")
	if cert, err := tls.LoadX509KeyPair(certFile, keyFile); err == nil {
		return cert, nil
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return tls.Certificate{}, err
	}
	name, _ := os.Hostname()
	t := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: cfg.Name},
		NotBefore: time.Now().Add(-time.Hour),
		NotAfter:  time.Now().AddDate(10, 0, 0), DNSNames: []string{"localhost", name},
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	if ip := net.ParseIP(host); ip != nil && !ip.IsUnspecified() {
		t.IPAddresses = []net.IP{ip}
	}
	der, err := x509.CreateCertificate(rand.Reader, t, t, key.Public(), key)
	if err != nil {
		return tls.Certificate{}, err
	}
	raw, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return tls.Certificate{}, err
	}
	crt := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
	pkey := pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw})
	if err := errors.Join(os.WriteFile(certFile, crt, 0o600), os.WriteFile(keyFile, pkey, 0o600)); err != nil {
		return tls.Certificate{}, err
	}
	return tls.X509KeyPair(crt, pkey)
}

func orNone(s string) string {
	if s == "" {
		return "(none)"
	}
	return s
}

// SignInLink makes an address of the console that signs in once, as whoever started the service.
func (svc *Service) SignInLink() (*api.SignInLink, error) {
	return svc.Site.Access.Link(&access.Caller{Name: "the host's administrator", Role: access.Administrator,
		Via: "socket"}, svc.Site.Console)
}
