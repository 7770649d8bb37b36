// Package inbox is a small stand-in for where alarms are sent: it receives mail by SMTP and
// posts by HTTP on loopback, and keeps what came. For the demo and for tests; it delivers
// nothing to anyone.
package inbox

import (
	"io"
	"net"
	"net/http"
	"slices"
	"sync"
	"time"

	"github.com/emersion/go-smtp"
)

// Message is one that came.
type Message struct {
	By     string // mail or webhook
	At     time.Time
	From   string // of mail
	To     []string
	Header http.Header // of a post
	Body   string      // of mail with its headers, as it was sent
}

// Inbox receives until it is closed.
type Inbox struct {
	Mail string // address of the SMTP server
	Hook string // URL of the webhook

	mu     sync.Mutex
	came   []Message
	refuse bool
	smtp   *smtp.Server
	http   *http.Server
}

const mostBytes = 1 << 20

// Open listens on two free ports of loopback. Mail is taken without encryption and without
// a password, as nothing leaves the host.
func Open() (*Inbox, error) {
	in := &Inbox{}
	ml, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	hl, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		ml.Close()
		return nil, err
	}
	in.Mail, in.Hook = ml.Addr().String(), "http://"+hl.Addr().String()+"/alarms"
	in.smtp = smtp.NewServer(in)
	in.smtp.Domain, in.smtp.MaxMessageBytes, in.smtp.ReadTimeout, in.smtp.WriteTimeout = "localhost", mostBytes,
		10*time.Second, 10*time.Second
	in.http = &http.Server{Handler: in, ReadHeaderTimeout: 10 * time.Second}
	go in.smtp.Serve(ml)
	go in.http.Serve(hl)
	return in, nil
}

// Close stops listening.
func (in *Inbox) Close() error {
	in.http.Close()
	return in.smtp.Close()
}

// Refuse makes it answer that it is not able to take anything, as a server in trouble does.
func (in *Inbox) Refuse(on bool) {
	in.mu.Lock()
	defer in.mu.Unlock()
	in.refuse = on
}

// Came returns what came, oldest first.
func (in *Inbox) Came() []Message {
	in.mu.Lock()
	defer in.mu.Unlock()
	return slices.Clone(in.came)
}

func (in *Inbox) put(m Message) bool {
	in.mu.Lock()
	defer in.mu.Unlock()
	if in.refuse {
		return false
	}
	m.At = time.Now()
	in.came = append(in.came, m)
	return true
}

func (in *Inbox) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	b, err := io.ReadAll(http.MaxBytesReader(w, r.Body, mostBytes))
	if err != nil || !in.put(Message{By: "webhook", Header: r.Header, Body: string(b)}) {
		w.WriteHeader(http.StatusServiceUnavailable)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// NewSession implements smtp.Backend.
func (in *Inbox) NewSession(*smtp.Conn) (smtp.Session, error) { return &session{in: in}, nil }

type session struct {
	in *Inbox
	m  Message
}

func (s *session) Mail(from string, _ *smtp.MailOptions) error { s.m.From = from; return nil }
func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error   { s.m.To = append(s.m.To, to); return nil }
func (s *session) Reset()                                      { s.m = Message{} }
func (s *session) Logout() error                               { return nil }
func (s *session) Data(r io.Reader) error {
	b, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	s.m.By, s.m.Body = "mail", string(b)
	if !s.in.put(s.m) {
		return &smtp.SMTPError{Code: 451, Message: "not now"}
	}
	return nil
}
