package outbound

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/mail"
	"strconv"
	"time"

	"github.com/emersion/go-smtp"
	gomail "github.com/wneessen/go-mail"

	"github.com/emersion/go-sasl"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/item"
)

// letter is what a mail action sends, as its request's JSON body.
type letter struct {
	From    string           `json:"from"`
	To      addresses        `json:"to"`
	Copy    addresses        `json:"cc"`
	Blind   addresses        `json:"bcc"`
	ReplyTo string           `json:"reply_to"`
	Subject string           `json:"subject"`
	Text    string           `json:"text"`
	HTML    string           `json:"html"`
	Files   []map[string]any `json:"files"`
	Check   bool             `json:"check"` // only sign in
}

// addresses are one address, several with commas, or a list.
type addresses []string

func (a *addresses) UnmarshalJSON(b []byte) error {
	var list []string
	if json.Unmarshal(b, &list) == nil {
		*a = list
		return nil
	}
	var one string
	if err := json.Unmarshal(b, &one); err != nil {
		return errors.New("an address is text, or a list of texts")
	}
	if one == "" {
		return nil
	}
	parsed, err := mail.ParseAddressList(one)
	if err != nil {
		return fmt.Errorf("%q is not an address: %w", one, err)
	}
	for _, p := range parsed {
		*a = append(*a, p.String())
	}
	return nil
}

// mailing speaks SMTP (RFC 5321).
type mailing struct{}

// send hands a message to a mail server. The Idempotency-Key becomes its
// Message-ID, by which a server or reader can tell a repeat.
func (mailing) send(ctx context.Context, c *Client, a *Account, request *call.Call, key string, sent *call.Sent) (*call.Answer, error) {
	var l letter
	if err := json.Unmarshal(request.Body, &l); err != nil {
		return nil, bad("the message cannot be made: %v", err)
	}
	host := request.URL.Hostname()
	port := request.URL.Port()
	if port == "" {
		port = protocols[request.URL.Scheme].port
	}
	conn, err := c.Dial(ctx, a.Workspace, "tcp", net.JoinHostPort(host, port))
	if err != nil {
		return nil, a.failure(ctx, err, false)
	}
	defer conn.Close()
	if until, ok := ctx.Deadline(); ok {
		_ = conn.SetDeadline(until)
	}
	defer context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })()
	client, err := signInMail(conn, a, request.URL.Scheme == "smtps", host)
	if err != nil {
		return nil, a.mailFailure(ctx, err, false, sent)
	}
	defer client.Close()
	if l.Check {
		_ = client.Quit()
		return mailAnswer(map[string]any{"user": a.Credentials.Values["user"], "server": host}), nil
	}
	message, recipients, id, err := c.compose(ctx, a, &l, key, host)
	var own ours
	if errors.As(err, &own) {
		return nil, own.error
	}
	if err != nil {
		return nil, bad("the message cannot be made: %v", err)
	}
	from, err := mail.ParseAddress(l.From)
	if err != nil {
		return nil, bad("the sender %q is not an address", l.From)
	}
	if err := client.Mail(from.Address, nil); err != nil {
		return nil, a.mailFailure(ctx, err, false, sent)
	}
	for _, r := range recipients {
		if err := client.Rcpt(r, nil); err != nil {
			return nil, a.mailFailure(ctx, err, false, sent)
		}
	}
	w, err := client.Data()
	if err != nil {
		return nil, a.mailFailure(ctx, err, false, sent)
	}
	if _, err := message.WriteTo(w); err != nil {
		return nil, a.mailFailure(ctx, err, true, sent)
	}
	if err := w.Close(); err != nil {
		return nil, a.mailFailure(ctx, err, true, sent)
	}
	_ = client.Quit()
	sent.Status = 250
	return mailAnswer(map[string]any{"message_id": id, "recipients": recipients}), nil
}

func mailAnswer(v any) *call.Answer {
	b, _ := json.Marshal(v)
	return &call.Answer{Status: http.StatusOK, Header: http.Header{"Content-Type": {"application/json"}}, Body: b}
}

func signInMail(conn net.Conn, a *Account, tlsFirst bool, host string) (*smtp.Client, error) {
	local := false
	if ip := net.ParseIP(host); ip != nil && ip.IsLoopback() || host == "localhost" {
		local = true
	}
	settings := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	if tlsFirst {
		conn = tls.Client(conn, settings)
	}
	client := smtp.NewClient(conn)
	client.CommandTimeout = 30 * time.Second
	if err := client.Hello("young-trellis"); err != nil {
		return nil, err
	}
	if ok, _ := client.Extension("STARTTLS"); ok && !tlsFirst && !local {
		upgraded, err := smtp.NewClientStartTLS(conn, settings)
		if err != nil {
			return nil, err
		}
		client = upgraded
		tlsFirst = true
	}
	if a.SignIn == nil || a.SignIn.Method == connector.None {
		return client, nil
	}
	if !tlsFirst && !local {
		return nil, errors.New("the server offers no encryption, and a password is not sent in the open")
	}
	return client, client.Auth(sasl.NewPlainClient("", a.Credentials.Values["user"], a.Credentials.Values["secret"]))
}

func (c *Client) compose(ctx context.Context, a *Account, l *letter, key, host string) (*gomail.Msg, []string, string, error) {
	m := gomail.NewMsg(gomail.WithNoDefaultUserAgent())
	if err := m.From(l.From); err != nil {
		return nil, nil, "", fmt.Errorf("the sender %q is not an address", l.From)
	}
	if err := errors.Join(m.To(l.To...), m.Cc(l.Copy...), m.Bcc(l.Blind...)); err != nil {
		return nil, nil, "", err
	}
	if l.ReplyTo != "" {
		if err := m.ReplyTo(l.ReplyTo); err != nil {
			return nil, nil, "", err
		}
	}
	for _, text := range []string{l.Subject} {
		for _, r := range text {
			if r < ' ' || r == 0x7f {
				return nil, nil, "", errors.New("the subject holds a line break or another control character")
			}
		}
	}
	m.Subject(l.Subject)
	m.SetGenHeader("Auto-Submitted", "auto-generated")
	m.SetDate()
	if key == "" {
		key = strconv.FormatInt(time.Now().UnixNano(), 36)
	}
	m.SetMessageIDWithValue(key + "@" + host)
	m.SetBodyString(gomail.TypeTextPlain, l.Text)
	if l.HTML != "" {
		m.AddAlternativeString(gomail.TypeTextHTML, l.HTML)
	}
	for _, v := range l.Files {
		f, ok := fileOf(v)
		if !ok {
			return nil, nil, "", errors.New("an attachment is not a file")
		}
		r, err := c.files.Open(ctx, a.Workspace, f.ID)
		if err != nil {
			return nil, nil, "", fileFault(f.Name, err)
		}
		err = m.AttachReader(f.Name, ownReader{r}, gomail.WithFileContentType(gomail.ContentType(f.Type)))
		_ = r.Close()
		if err != nil {
			return nil, nil, "", err
		}
	}
	recipients, err := m.GetRecipients()
	if err != nil || len(recipients) == 0 {
		return nil, nil, "", errors.New("there is no recipient")
	}
	for i, r := range recipients {
		parsed, err := mail.ParseAddress(r)
		if err != nil {
			return nil, nil, "", fmt.Errorf("%q is not an address", r)
		}
		recipients[i] = parsed.Address
	}
	return m, recipients, key + "@" + host, nil
}

// fileOf reads a file from JSON, where sizes are floating numbers.
func fileOf(v map[string]any) (*item.File, bool) {
	if n, ok := v["size"].(float64); ok {
		v["size"] = int64(n)
	}
	return item.AsFile(v)
}

func (a *Account) mailFailure(ctx context.Context, err error, written bool, sent *call.Sent) error {
	var no *smtp.SMTPError
	if errors.As(err, &no) {
		sent.Status = no.Code
		f := &call.Failure{Class: call.Refused, Status: no.Code, Message: a.Hide(fmt.Sprintf("%s answered %d: %s", a.title(), no.Code, no.Message)), Retryable: no.Code >= 400 && no.Code < 500}
		if no.Code == 535 || no.Code == 530 {
			f.Status = http.StatusUnauthorized
		}
		return f
	}
	if errors.Is(err, io.EOF) {
		err = errors.New("the connection was cut")
	}
	return a.failure(ctx, err, written)
}
