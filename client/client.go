// Package client calls a site's API.
//
//	c, err := client.New("unix:/srv/larkfield/candid.sock", "")
//	var status api.Status
//	err = c.Get(ctx, "/status", nil, &status)
package client

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"reflect"
	"strings"
	"time"

	"candidharbor/api"
)

// Client calls one site.
type Client struct {
	base  string
	desk  string // before every path: the desk of a paired site
	times string // how times in sentences are shown
	token string
	http  *http.Client
}

// Option changes how a client connects.
type Option func(*tls.Config)

// Pin accepts only the certificate with this SHA-256 fingerprint, in hexadecimal, and
// that one without a certificate authority.
func Pin(fingerprint string) Option {
	want := strings.ToLower(strings.ReplaceAll(fingerprint, ":", ""))
	return func(c *tls.Config) {
		c.InsecureSkipVerify = true // the pin below is what is trusted
		c.VerifyPeerCertificate = func(raw [][]byte, _ [][]*x509.Certificate) error {
			sum := sha256.Sum256(raw[0])
			if got := hex.EncodeToString(sum[:]); got != want {
				return fmt.Errorf("the site shows the certificate %s, not the pinned %s", got, want)
			}
			return nil
		}
	}
}

// New makes a client for an address: unix:DIR/candid.sock, or http(s)://host:port with
// a token.
func New(address, token string, opts ...Option) (*Client, error) {
	tr := &http.Transport{TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS12}, MaxIdleConnsPerHost: 8}
	for _, o := range opts {
		o(tr.TLSClientConfig)
	}
	c := &Client{token: token, http: &http.Client{Transport: tr}}
	if path, ok := strings.CutPrefix(address, "unix:"); ok {
		c.base = "http://site"
		tr.DialContext = func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "unix", path)
		}
		return c, nil
	}
	u, err := url.Parse(address)
	if err != nil || (u.Scheme != "http" && u.Scheme != "https") || u.Host == "" {
		return nil, fmt.Errorf("site address %q: give unix:DIR/candid.sock or http(s)://host:port", address)
	}
	c.base = strings.TrimSuffix(address, "/")
	return c, nil
}

// At returns a client that asks a paired site through this one, which passes requests on.
func (c *Client) At(site string) *Client {
	other := *c
	other.desk = "/sites/" + url.PathEscape(site) + "/desk"
	return &other
}

// ShowTimes returns a client that is told times in sentences in a zone and a form, such as "Europe/Lisbon" or
// "Europe/Lisbon, day first"; without, they are in the site's zone.
func (c *Client) ShowTimes(style string) *Client {
	other := *c
	other.times = style
	return &other
}

// Problem is an error that the site told (RFC 9457).
type Problem struct {
	Status int    `json:"status"`
	Title  string `json:"title"`
	Detail string `json:"detail"`
	Errors []struct {
		Message  string `json:"message"`
		Location string `json:"location"`
	} `json:"errors"`
}

func (p *Problem) Error() string {
	msg := p.Detail
	if strings.HasPrefix(msg, "validation failed") {
		for _, e := range p.Errors {
			msg += "; " + e.Location + ": " + e.Message
		}
	}
	if msg == "" {
		msg = p.Title
	}
	return msg
}

// Get asks for something; out is a pointer.
func (c *Client) Get(ctx context.Context, path string, query url.Values, out any) error {
	return c.do(ctx, http.MethodGet, path, query, nil, out)
}

// Post sends a request that is carried out once, however often it is repeated.
func (c *Client) Post(ctx context.Context, path string, in, out any) error {
	return c.do(ctx, http.MethodPost, path, nil, in, out)
}

// Put stores something.
func (c *Client) Put(ctx context.Context, path string, in, out any) error {
	return c.do(ctx, http.MethodPut, path, nil, in, out)
}

// Patch changes a part of something.
func (c *Client) Patch(ctx context.Context, path string, in, out any) error {
	return c.do(ctx, http.MethodPatch, path, nil, in, out)
}

// Delete removes something.
func (c *Client) Delete(ctx context.Context, path string, out any) error {
	return c.do(ctx, http.MethodDelete, path, nil, nil, out)
}

func (c *Client) do(ctx context.Context, method, path string, query url.Values, in, out any) error {
	var raw []byte
	if in != nil {
		var err error
		if raw, err = json.Marshal(in); err != nil {
			return err
		}
	}
	resp, err := c.send(ctx, method, path, query, raw)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if out == nil {
		_, err = io.Copy(io.Discard, resp.Body)
		return err
	}
	// What an answer leaves out is not there: nothing of an earlier one may shine through.
	if v := reflect.ValueOf(out); v.Kind() == reflect.Pointer && !v.IsNil() {
		v.Elem().SetZero()
	}
	if err := json.NewDecoder(resp.Body).Decode(out); err != nil {
		return fmt.Errorf("the site's answer cannot be read: %w", err)
	}
	return nil
}

func (c *Client) send(ctx context.Context, method, path string, query url.Values, body []byte) (*http.Response, error) {
	u := c.base + "/api/v1" + c.desk + path
	if len(query) > 0 {
		u += "?" + query.Encode()
	}
	req, err := http.NewRequestWithContext(ctx, method, u, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	if c.times != "" {
		req.Header.Set("Candid-Times", c.times)
	}
	if len(body) > 0 {
		req.Header.Set("Content-Type", "application/json")
	}
	if method != http.MethodGet {
		req.Header.Set("Idempotency-Key", rand.Text())
	}
	resp, err := c.http.Do(req)
	if err != nil {
		return nil, unreachable(err)
	}
	if resp.StatusCode < 300 {
		return resp, nil
	}
	defer resp.Body.Close()
	p := &Problem{Status: resp.StatusCode, Title: resp.Status}
	raw, _ := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	_ = json.Unmarshal(raw, p)
	p.Status = resp.StatusCode
	return nil, p
}

func unreachable(err error) error {
	var op *net.OpError
	if errors.As(err, &op) && op.Op == "dial" {
		return fmt.Errorf("no service answers at %v: start it with candid serve, or name another with --site", op.Addr)
	}
	return err
}

// WaitRun waits until a run is over, calling each with its state from time to time.
func (c *Client) WaitRun(ctx context.Context, id int64, each func(*api.Run)) (*api.Run, error) {
	for {
		r := &api.Run{}
		began := time.Now()
		if err := c.Get(ctx, fmt.Sprintf("/runs/%d", id), url.Values{"wait": {"1"}}, r); err != nil {
			return nil, err
		}
		if each != nil {
			each(r)
		}
		if r.Over() {
			return r, nil
		}
		if left := 300*time.Millisecond - time.Since(began); left > 0 {
			select {
			case <-time.After(left):
			case <-ctx.Done():
				return nil, ctx.Err()
			}
		}
	}
}

// Text copies an answer that is not a shape of the API, such as the calendar, to w.
func (c *Client) Text(ctx context.Context, path string, query url.Values, w io.Writer) error {
	resp, err := c.send(ctx, http.MethodGet, path, query, nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	_, err = io.Copy(w, resp.Body)
	return err
}

// Archive downloads paths of a volume as of a moment as an archive, tar or zip.
func (c *Client) Archive(ctx context.Context, volume, at, form string, paths []string, w io.Writer) (int64, error) {
	return c.download(ctx, "/volumes/"+url.PathEscape(volume)+"/archive", url.Values{"at": {at}, "form": {form},
		"path": paths}, w)
}

// File downloads one file of a volume as of a moment.
func (c *Client) File(ctx context.Context, volume, at, path string, w io.Writer) (int64, error) {
	return c.download(ctx, "/volumes/"+url.PathEscape(volume)+"/file", url.Values{"at": {at}, "path": {path}}, w)
}

func (c *Client) download(ctx context.Context, path string, query url.Values, w io.Writer) (int64, error) {
	resp, err := c.send(ctx, http.MethodGet, path, query, nil)
	if err != nil {
		return 0, err
	}
	defer resp.Body.Close()
	n, err := io.Copy(w, resp.Body)
	if err != nil {
		return n, fmt.Errorf("the download broke off after %d bytes and is not whole: %w", n, err)
	}
	return n, nil
}
