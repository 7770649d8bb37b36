package overview

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strconv"
	"strings"
	"time"

	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"

	"github.com/wneessen/go-mail"
)

// post sends a notice to a webhook.
func post(ctx context.Context, w *datadir.Webhook, n *catalog.Notice) error {
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

// sendMail sends a notice by mail.
func sendMail(ctx context.Context, m *datadir.Mail, n *catalog.Notice) error {
	msg, err := m.Message(n.Subject, n.Body)
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
		opts = append(opts, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(m.User),
			mail.WithPassword(strings.TrimSpace(string(password))))
	}
	c, err := mail.NewClient(host, opts...)
	if err != nil {
		return err
	}
	return c.DialAndSendWithContext(ctx, msg)
}
