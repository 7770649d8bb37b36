package disks

import (
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
	"io/fs"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"sync"
	"time"

	"candidharbor/internal/store"
)

// certAuthority signs the certificates by which hosts and this site know each other when disks are opened over
// the network. They are for that alone.
type certAuthority struct {
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
	pem  []byte // the certificate

	mu     sync.Mutex
	server *tls.Certificate
	made   time.Time
}

const (
	authorityFor = 20 // years
	hostFor      = 2
	// serverFor is how long the site's own certificate is good, and serverFresh how long it is used: addresses
	// of the site may change.
	serverFor   = 30 * 24 * time.Hour
	serverFresh = time.Hour
)

// openAuthority reads the authority, making it the first time.
func openAuthority(path, site string) (*certAuthority, error) {
	raw, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		if raw, err = newAuthority(site); err == nil {
			err = store.ReplaceFile(path, raw)
		}
	}
	if err != nil {
		return nil, err
	}
	damaged := fmt.Errorf("%s is no authority for disks: restore the file from your backup of the data directory; or "+
		"remove it, and give every host a new certificate with candid disk access HOST --renew", path)
	cert, rest := pem.Decode(raw)
	key, _ := pem.Decode(rest)
	if cert == nil || key == nil {
		return nil, damaged
	}
	a := &certAuthority{pem: pem.EncodeToMemory(cert)}
	if a.cert, err = x509.ParseCertificate(cert.Bytes); err != nil {
		return nil, errors.Join(damaged, err)
	}
	parsed, err := x509.ParsePKCS8PrivateKey(key.Bytes)
	if err != nil {
		return nil, errors.Join(damaged, err)
	}
	var is bool
	if a.key, is = parsed.(*ecdsa.PrivateKey); !is || !a.key.PublicKey.Equal(a.cert.PublicKey) {
		return nil, damaged
	}
	return a, nil
}

func newAuthority(site string) ([]byte, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	t := &x509.Certificate{Subject: pkix.Name{CommonName: "disks of " + site}, IsCA: true,
		BasicConstraintsValid: true, MaxPathLenZero: true, KeyUsage: x509.KeyUsageCertSign}
	return sign(t, nil, key, key, time.Now().AddDate(authorityFor, 0, 0))
}

// sign makes a certificate and its key as PEM. Without a parent it is signed by itself.
func sign(t, parent *x509.Certificate, own, by *ecdsa.PrivateKey, until time.Time) ([]byte, error) {
	var err error
	if t.SerialNumber, err = rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 127)); err != nil {
		return nil, err
	}
	if parent == nil {
		parent = t
	}
	t.NotBefore, t.NotAfter = time.Now().Add(-time.Hour), until
	der, err := x509.CreateCertificate(rand.Reader, t, parent, own.Public(), by)
	if err != nil {
		return nil, err
	}
	raw, err := x509.MarshalPKCS8PrivateKey(own)
	if err != nil {
		return nil, err
	}
	return append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw})...), nil
}

// issue makes a certificate for a host. The key is not kept.
func (a *certAuthority) issue(host string) (cert, key []byte, sum string, until time.Time, err error) {
	own, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, "", until, err
	}
	until = time.Now().AddDate(hostFor, 0, 0)
	both, err := sign(&x509.Certificate{Subject: pkix.Name{CommonName: host}, KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}}, a.cert, own, a.key, until)
	if err != nil {
		return nil, nil, "", until, err
	}
	block, rest := pem.Decode(both)
	return pem.EncodeToMemory(block), rest, sumOf(block.Bytes), until, nil
}

func sumOf(der []byte) string {
	sum := sha256.Sum256(der)
	return hex.EncodeToString(sum[:])
}

// serving returns the site's own certificate, for the names and addresses that it has now.
func (a *certAuthority) serving(listen string, names []string) (*tls.Certificate, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.server != nil && time.Since(a.made) < serverFresh {
		return a.server, nil
	}
	own, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	t := &x509.Certificate{Subject: pkix.Name{CommonName: "disks"}, DNSNames: names,
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	host, _, err := net.SplitHostPort(listen)
	if err != nil {
		return nil, err
	}
	switch ip := net.ParseIP(host); {
	case ip != nil && !ip.IsUnspecified():
		t.IPAddresses = []net.IP{ip}
	case ip == nil && host != "":
		t.DNSNames = append(t.DNSNames, host)
	default:
		addrs, err := net.InterfaceAddrs()
		if err != nil {
			return nil, err
		}
		for _, addr := range addrs {
			if n, is := addr.(*net.IPNet); is {
				t.IPAddresses = append(t.IPAddresses, n.IP)
			}
		}
	}
	both, err := sign(t, a.cert, own, a.key, time.Now().Add(serverFor))
	if err != nil {
		return nil, err
	}
	cert, err := tls.X509KeyPair(both, both)
	if err != nil {
		return nil, err
	}
	a.server, a.made = &cert, time.Now()
	return a.server, nil
}

// config is what is spoken with hosts: TLS 1.3, with certificates at both ends.
func (s *Service) config(a *certAuthority) *tls.Config {
	own, _ := os.Hostname()
	names := append([]string{"localhost", own}, s.Conf.Hosts...)
	pool := x509.NewCertPool()
	pool.AddCert(a.cert)
	return &tls.Config{MinVersion: tls.VersionTLS13, ClientAuth: tls.RequireAndVerifyClientCert, ClientCAs: pool,
		SessionTicketsDisabled: true, GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
			return a.serving(s.Conf.DiskListen, names)
		}}
}

func (s *Service) authorityPath() string { return filepath.Join(s.Path, "keys", "disks.pem") }

// authority is the site's, made the first time that it is needed.
func (s *Service) authority() (*certAuthority, error) {
	s.authorityMu.Lock()
	defer s.authorityMu.Unlock()
	if s.certifies != nil {
		return s.certifies, nil
	}
	a, err := openAuthority(s.authorityPath(), s.Name())
	s.certifies = a
	return a, err
}
