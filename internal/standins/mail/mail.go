// Package mail is the stand-in for a mail server: SMTP with a login, and a page
// that shows the mailbox. The SMTP server is a library's.
package mail

import (
	"errors"
	"fmt"
	"html/template"
	"io"
	"net"
	netmail "net/mail"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"

	"youngtrellis/internal/standins"
)

// Letter that arrived.
type Letter struct {
	From    string   `json:"from"`
	To      []string `json:"to"`
	Subject string   `json:"subject"`
	ID      string   `json:"id"`
	Raw     string   `json:"raw"`
}

// Mail is the stand-in.
type Mail struct {
	*standins.Stand
	mu       sync.Mutex
	letters  []Letter
	password string
}

// New makes it and begins to listen for SMTP.
func New(o standins.Setup, port int) (*Mail, int, error) {
	m := &Mail{password: o.Key("mail")}
	saved := o.Saved("mail")
	saved.Load(&m.letters)
	l, err := net.Listen("tcp", "127.0.0.1:"+strconv.Itoa(port))
	if err != nil && port != 0 {
		l, err = net.Listen("tcp", "127.0.0.1:0")
	}
	if err != nil {
		return nil, 0, err
	}
	server := smtp.NewServer(backend{m})
	server.Domain, server.AllowInsecureAuth, server.ReadTimeout, server.WriteTimeout = "mail.ottermere.example", true, time.Minute, time.Minute
	server.MaxMessageBytes, server.MaxRecipients = 25<<20, 50
	go func() { _ = server.Serve(l) }()
	got := l.Addr().(*net.TCPAddr).Port
	service := standins.Build(standins.Spec{Name: "Mail", About: "A mail server (SMTP) and its mailbox.", Page: m.page})
	m.Stand = &standins.Stand{Service: service, Connector: "mail", NoAddress: true, Account: map[string]string{"host": "127.0.0.1", "port": strconv.Itoa(got), "sender": "hall@ottermere.example"},
		Values: map[string]string{"user": "hall@ottermere.example", "secret": m.password}, Close: func() { _ = server.Close() },
		Save: func() error { m.mu.Lock(); defer m.mu.Unlock(); return saved.Save(m.letters) }}
	return m, got, nil
}

type backend struct{ m *Mail }

func (b backend) NewSession(c *smtp.Conn) (smtp.Session, error) {
	return &session{m: b.m, conn: c.Conn()}, nil
}

type session struct {
	m        *Mail
	conn     net.Conn
	signedIn bool
	from     string
	to       []string
}

func (s *session) AuthMechanisms() []string { return []string{sasl.Plain} }

func (s *session) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if user != "hall@ottermere.example" || password != s.m.password || s.m.Misbehaving().RefuseKeys {
			return &smtp.SMTPError{Code: 535, EnhancedCode: smtp.EnhancedCode{5, 7, 8}, Message: "the user name or password is not right"}
		}
		s.signedIn = true
		return nil
	}), nil
}

func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	if !s.signedIn {
		return smtp.ErrAuthRequired
	}
	if !strings.HasSuffix(from, "@ottermere.example") {
		return &smtp.SMTPError{Code: 553, EnhancedCode: smtp.EnhancedCode{5, 7, 1}, Message: from + " may not send from here"}
	}
	s.from = from
	return nil
}

func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	if !strings.Contains(to, "@") || strings.HasPrefix(to, "nobody@") {
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "there is no mailbox " + to}
	}
	s.to = append(s.to, to)
	return nil
}

func (s *session) Data(r io.Reader) error {
	b, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	l := Letter{From: s.from, To: s.to, Raw: string(b)}
	if parsed, err := netmail.ReadMessage(strings.NewReader(l.Raw)); err == nil {
		l.Subject, l.ID = parsed.Header.Get("Subject"), parsed.Header.Get("Message-Id")
	}
	if _, _, cut := s.m.Call(true); cut {
		defer s.conn.Close() // it was taken, and its sender is not told
	}
	s.m.mu.Lock()
	defer s.m.mu.Unlock()
	for _, known := range s.m.letters { // a repeat is known by its Message-ID
		if l.ID != "" && known.ID == l.ID {
			return nil
		}
	}
	s.m.letters = append(s.m.letters, l)
	return nil
}

func (s *session) Reset()        { s.from, s.to = "", nil }
func (s *session) Logout() error { return nil }

// Letters lists what arrived.
func (m *Mail) Letters() []Letter {
	m.mu.Lock()
	defer m.mu.Unlock()
	return append([]Letter{}, m.letters...)
}

// Find gives a letter by its subject.
func (m *Mail) Find(subject string) (Letter, error) {
	for _, l := range m.Letters() {
		if l.Subject == subject {
			return l, nil
		}
	}
	return Letter{}, errors.New("no letter has the subject " + subject)
}

func (m *Mail) page() template.HTML {
	out := template.HTML("<h2>Mailbox</h2>")
	for _, l := range m.Letters() {
		out += template.HTML(fmt.Sprintf("<h3>%s</h3><p class=note>from %s to %s</p><pre>%s</pre>", template.HTMLEscapeString(l.Subject), template.HTMLEscapeString(l.From), template.HTMLEscapeString(strings.Join(l.To, ", ")), template.HTMLEscapeString(l.Raw[:min(len(l.Raw), 2000)])))
	}
	return out
}
