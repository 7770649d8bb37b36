package service

import (
	"context"
	"crypto/tls"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"testing"

	"candidharbor/api"
	"candidharbor/client"
	"candidharbor/internal/site"

	"github.com/stretchr/testify/require"
)

func start(t *testing.T, dir, listen string) *Service {
	svc, err := Start(site.Options{Data: dir, Name: "larkfield", Listen: listen, PeerListen: "127.0.0.1:0",
		Roots: []string{t.TempDir()}})
	require.NoError(t, err)
	t.Cleanup(svc.Stop)
	return svc
}

func answers(t *testing.T, address, token string, opts ...client.Option) error {
	c, err := client.New(address, token, opts...)
	require.NoError(t, err)
	var s api.Site
	err = c.Get(context.Background(), "/site", nil, &s)
	if err == nil {
		require.Equal(t, "larkfield", s.Name)
	}
	return err
}

// On the host the socket is the key, guarded by its permission; by address only a token
// lets in. The first token is shown at the first start and never again.
func TestWaysIn(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "data")
	svc := start(t, dir, "127.0.0.1:0")
	require.NoError(t, answers(t, svc.Socket, ""))
	st, err := os.Stat(filepath.Join(dir, "candid.sock"))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), st.Mode().Perm())
	st, err = os.Stat(dir)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o700), st.Mode().Perm())
	for _, name := range []string{"site.pem"} {
		st, err := os.Stat(filepath.Join(dir, "keys", name))
		require.NoError(t, err)
		require.Equal(t, os.FileMode(0o600), st.Mode().Perm(), name)
	}
	require.ErrorContains(t, answers(t, svc.URL, ""), "token or password is missing or wrong")
	require.ErrorContains(t, answers(t, svc.URL, "cht_0000"), "token or password is missing or wrong")
	require.NoError(t, answers(t, svc.URL, svc.FirstToken.Text))
	raw, err := os.ReadFile(filepath.Join(dir, "catalog.db"))
	require.NoError(t, err)
	require.NotContains(t, string(raw), svc.FirstToken.Text)
	require.Empty(t, svc.Fingerprint, "on loopback nobody listens in")

	// A second process is kept off the data, and the first goes on undisturbed.
	_, err = Start(site.Options{Data: dir, Listen: "127.0.0.1:0", PeerListen: "127.0.0.1:0"})
	require.ErrorContains(t, err, "is in use by process")
	require.NoError(t, answers(t, svc.Socket, ""))

	token := svc.FirstToken.Text
	svc.Stop()
	require.ErrorContains(t, answers(t, svc.Socket, ""), "start it with candid serve")
	again := start(t, dir, "127.0.0.1:0")
	require.Empty(t, again.FirstToken.Text)
	require.NoError(t, answers(t, again.URL, token))
	// A socket that a killed process left behind is in nobody's way.
	again.Stop()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "candid.sock"), nil, 0o600))
	require.NoError(t, answers(t, start(t, dir, "127.0.0.1:0").Socket, ""))
}

// Anything but loopback is served by TLS only. The site makes a certificate, keeps it,
// and who pins it is not fooled by another.
func TestTLSBeyondLoopback(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "data")
	svc := start(t, dir, "0.0.0.0:0")
	_, port, err := net.SplitHostPort(svc.URL[len("https://"):])
	require.NoError(t, err)
	address := "https://127.0.0.1:" + port
	require.NoError(t, answers(t, address, svc.FirstToken.Text, client.Pin(svc.Fingerprint)))
	require.ErrorContains(t, answers(t, address, svc.FirstToken.Text), "certificate", "no authority vouches for it")
	other := "00"
	if svc.Fingerprint[:2] == other {
		other = "11"
	}
	require.ErrorContains(t, answers(t, address, svc.FirstToken.Text, client.Pin(other+svc.Fingerprint[2:])),
		"not the pinned "+other)
	resp, err := http.Get("http://127.0.0.1:" + port)
	if err == nil {
		defer resp.Body.Close()
		body, _ := io.ReadAll(resp.Body)
		require.Equal(t, http.StatusBadRequest, resp.StatusCode, string(body))
	}
	_, err = tls.Dial("tcp", "127.0.0.1:"+port, &tls.Config{InsecureSkipVerify: true, MaxVersion: tls.VersionTLS11})
	require.Error(t, err, "old versions are refused")
	first, token := svc.Fingerprint, svc.FirstToken.Text
	svc.Stop()
	again := start(t, dir, "0.0.0.0:0")
	require.Equal(t, first, again.Fingerprint, "the pin holds over restarts")
	// The cookie of a session goes over TLS only.
	again.Stop()
	svc = start(t, dir, "127.0.0.1:0")
	require.NoError(t, answers(t, svc.URL, token))
}

// What cannot be listened on is said with the address and the way out, and the data
// directory is free again.
func TestAddressTaken(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	dir := filepath.Join(t.TempDir(), "data")
	for _, opt := range []site.Options{{Listen: l.Addr().String(), PeerListen: "127.0.0.1:0"},
		{Listen: "127.0.0.1:0", PeerListen: l.Addr().String()}} {
		opt.Data, opt.Name = dir, "larkfield"
		_, err = Start(opt)
		require.ErrorContains(t, err, l.Addr().String()+" cannot be listened on")
		require.ErrorContains(t, err, "choose another with --listen")
	}
	require.NoError(t, answers(t, start(t, dir, "127.0.0.1:0").Socket, ""))
}

// site.yaml is the operator's: what is wrong in it is told by line, and nothing starts.
func TestConfigMistakes(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "data")
	start(t, dir, "127.0.0.1:0").Stop()
	path := filepath.Join(dir, "site.yaml")
	good, err := os.ReadFile(path)
	require.NoError(t, err)
	for text, say := range map[string]string{
		string(good) + "colour: blue\n":                                                "colour",
		"name: larkfield\nlisten: 127.0.0.1:1\nroots: [relative]\n":                    "relative",
		"name: Lark Field\nroots: [/srv]\nlisten: 127.0.0.1:1\n":                       "lower-case",
		"name: larkfield\nlisten: nowhere\nroots: [/srv]\n":                            "nowhere",
		"name: [larkfield\n":                                                           "site.yaml",
		"name: larkfield\nlisten: 127.0.0.1:1\nroots: [/srv]\ntls_cert: /none/x.crt\n": "leave both out",
	} {
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		svc, err := Start(site.Options{Data: dir, PeerListen: "127.0.0.1:0"})
		if err == nil {
			svc.Stop()
		}
		require.ErrorContains(t, err, say, text)
	}
	require.NoError(t, os.WriteFile(path, good, 0o600))
	_, err = Start(site.Options{Data: dir, Name: "stonewick"})
	require.ErrorContains(t, err, `is the site "larkfield", not "stonewick"`)
	require.NoError(t, answers(t, start(t, dir, "127.0.0.1:0").Socket, ""))
}
