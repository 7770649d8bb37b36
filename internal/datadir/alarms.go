package datadir

import (
	"errors"
	"fmt"
	"net"
	"net/url"
	"strconv"

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

// Check finds what is wrong with where alarms are sent.
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
		if _, err := m.Message("x", "x"); err != nil {
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

// Message makes a message, or says which address is none.
func (m *Mail) Message(subject, text string) (*mail.Msg, error) {
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
