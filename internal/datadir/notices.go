package datadir

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"candidharbor/internal/catalog"

	"github.com/wneessen/go-mail"
)

// Alarms says where alarms are sent. The log and the console have them in any case.
type Alarms struct {
	Webhook *Webhook `yaml:"webhook,omitempty"`
	Mail    *Mail    `yaml:"mail,omitempty"`
	Console string   `yaml:"console,omitempty"` // address of the console, for links in messages
}

// Webhook posts alarms as JSON.
type Webhook struct {
	URL string `yaml:"url"`
	// SecretFile holds a text; with it every message has the header Candid-Signature:
	// sha256=HMAC-SHA256(secret, body) in hexadecimal.
	SecretFile string `yaml:"secret_file,omitempty"`
}

// Mail sends alarms by SMTP.
type Mail struct {
	Server       string   `yaml:"server"` // host:port
	From         string   `yaml:"from"`
	To           []string `yaml:"to"`
	User         string   `yaml:"user,omitempty"`
	PasswordFile string   `yaml:"password_file,omitempty"`
	Security     string   `yaml:"security,omitempty"` // starttls (the default), tls or none
}

func (a *Alarms) Check() error {
	if a == nil {
		return nil
	}
	if a.Webhook != nil {
		if u, err := url.Parse(a.Webhook.URL); err != nil || (u.Scheme != "http" && u.Scheme != "https") || u.Host == "" {
			return fmt.Errorf("alarms: webhook: %q is no http or https address", a.Webhook.URL)
		}
	}
	if m := a.Mail; m != nil {
		host, port, err := net.SplitHostPort(m.Server)
		if n, perr := strconv.Atoi(port); err != nil || perr != nil || host == "" || n < 1 || n > 65535 {
			return fmt.Errorf("alarms: mail: server %q: write host:port, such as mail.example.org:587", m.Server)
		}
		if len(m.To) == 0 {
			return errors.New("alarms: mail: to names nobody")
		}
		if _, err := m.message("x", "x"); err != nil {
			return fmt.Errorf("alarms: mail: %w", err)
		}
		switch m.Security {
		case "", "starttls", "tls", "none":
		default:
			return fmt.Errorf("alarms: mail: security %q: write starttls, tls or none", m.Security)
		}
		if (m.User == "") != (m.PasswordFile == "") {
			return errors.New("alarms: mail: user and password_file belong together")
		}
	}
	return nil
}

func (w *Webhook) Post(ctx context.Context, n *catalog.Notice) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, w.URL, strings.NewReader(n.Body))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	if w.SecretFile != "" {
		secret, err := os.ReadFile(w.SecretFile)
		if err != nil {
			return err
		}
		mac := hmac.New(sha256.New, bytes.TrimSpace(secret))
		mac.Write([]byte(n.Body))
		req.Header.Set("Candid-Signature", "sha256="+hex.EncodeToString(mac.Sum(nil)))
	}
	c := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	resp, err := c.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	io.Copy(io.Discard, io.LimitReader(resp.Body, 64<<10))
	if resp.StatusCode/100 != 2 {
		return fmt.Errorf("%s answered %s", w.URL, resp.Status)
	}
	return nil
}

func (m *Mail) message(subject, text string) (*mail.Msg, error) {
	msg := mail.NewMsg(mail.WithNoDefaultUserAgent())
	if err := msg.From(m.From); err != nil {
		return nil, fmt.Errorf("from %q is no mail address", m.From)
	}
	for _, to := range m.To {
		if err := msg.AddTo(to); err != nil {
			return nil, fmt.Errorf("to %q is no mail address", to)
		}
	}
	msg.Subject(subject)
	msg.SetBodyString(mail.TypeTextPlain, text)
	return msg, nil
}

func (m *Mail) Send(ctx context.Context, n *catalog.Notice) error {
	msg, err := m.message(n.Subject, n.Body)
	if err != nil {
		return err
	}
	host, portText, err := net.SplitHostPort(m.Server)
	if err != nil {
		return err
	}
	port, err := strconv.Atoi(portText)
	if err != nil {
		return err
	}
	opts := []mail.Option{mail.WithPort(port), mail.WithTimeout(10 * time.Second)}
	switch m.Security {
	case "none":
		opts = append(opts, mail.WithTLSPolicy(mail.NoTLS))
	case "tls":
		opts = append(opts, mail.WithSSL())
	default:
		opts = append(opts, mail.WithTLSPolicy(mail.TLSMandatory))
	}
	if m.User != "" {
		password, err := os.ReadFile(m.PasswordFile)
		if err != nil {
			return err
		}
		opts = append(opts, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(m.User), mail.WithPassword(strings.TrimSpace(string(password))))
	}
	c, err := mail.NewClient(host, opts...)
	if err != nil {
		return err
	}
	return c.DialAndSendWithContext(ctx, msg)
}
