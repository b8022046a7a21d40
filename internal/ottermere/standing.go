package ottermere

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"path/filepath"
	"reflect"
	"strings"
	"time"

	api "youngtrellis/api/client"
	"youngtrellis/internal/standins"
	"youngtrellis/internal/standins/calendar"
	"youngtrellis/internal/standins/contacts"
	"youngtrellis/internal/standins/documents"
	"youngtrellis/internal/standins/feedback"
	"youngtrellis/internal/standins/files"
	"youngtrellis/internal/standins/forum"
	"youngtrellis/internal/standins/helpdesk"
	"youngtrellis/internal/standins/lab"
	"youngtrellis/internal/standins/mail"
	"youngtrellis/internal/standins/pages"
	"youngtrellis/internal/standins/register"
	"youngtrellis/internal/standins/search"
	"youngtrellis/internal/standins/sms"
	"youngtrellis/internal/standins/speech"
	"youngtrellis/internal/standins/statistics"
	"youngtrellis/internal/standins/suppliers"
	"youngtrellis/internal/standins/tables"
	"youngtrellis/internal/standins/teamchat"
	"youngtrellis/internal/standins/textmodel"
	"youngtrellis/internal/standins/works"
)

// Standing is a stand-in that is being served.
type Standing struct {
	*standins.Stand
	Base string
}

// Others are the stand-ins besides tables and contacts.
type Others struct {
	Documents *documents.Documents
	Files     *files.Files
	Chat      *teamchat.Chat
	SMS       *sms.SMS
	Mail      *mail.Mail
	Desk      *helpdesk.Desk
	Calendar  *calendar.Calendar
	Model     *textmodel.Model
	Speech    *speech.Speech
	Forum     *forum.Forum
	Feedback  *feedback.Feedback
	Suppliers *suppliers.Suppliers
	Lab       *lab.Lab
}

func (w *World) saved(name string) standins.Saved {
	return standins.Saved{Path: filepath.Join(w.Data, "standins", name+".json")}
}

// key gives a key that is the same at every start.
func (w *World) key(name string) string {
	if w.Keys == nil {
		w.Keys = map[string]string{}
	}
	if w.Keys[name] == "" {
		w.Keys[name] = strings.NewReplacer("-", "x", "_", "y").Replace(name[:2] + random(18))
	}
	return w.Keys[name]
}

func (w *World) startStandins(ctx context.Context) error {
	if w.Ports == nil {
		w.Ports = map[string]int{}
	}
	w.Tables = tables.New(w.TablesKey, w.options.Day, w.saved("tables"))
	w.Contacts = contacts.New(w.ContactsKey, w.saved("contacts"))
	list := []*standins.Stand{
		{Service: w.Tables.Service, Connector: "tables", Values: map[string]string{"secret": w.TablesKey}, OnBase: w.Tables.SetBase, Save: w.Tables.Save},
		{Service: w.Contacts.Service, Connector: "contacts", Values: map[string]string{"secret": w.ContactsKey}, OnBase: w.Contacts.SetBase, Save: w.Contacts.Save},
	}
	w.Ports["tables"], w.Ports["contacts"] = w.TablesPort, w.ContactsPort
	if w.options.Few {
		model := textmodel.New(standins.Setup{Key: w.key, Saved: w.saved, Day: w.options.Day.Truncate(24 * time.Hour)})
		list = append(list, model.Stand)
	} else {
		more, err := w.others(ctx)
		if err != nil {
			return err
		}
		list = append(list, more...)
	}
	for _, s := range list {
		l, err := listen(w.Ports[s.Connector])
		if err != nil {
			return err
		}
		w.Ports[s.Connector] = l.Addr().(*net.TCPAddr).Port
		base := "http://" + l.Addr().String()
		s.Describe(base)
		w.Stands = append(w.Stands, &Standing{s, base})
		server := &http.Server{Handler: s.Engine, ReadHeaderTimeout: 10 * time.Second}
		w.servers = append(w.servers, server)
		go func() { _ = server.Serve(l) }()
	}
	w.TablesPort, w.ContactsPort = w.Ports["tables"], w.Ports["contacts"]
	w.TablesBase, w.ContactsBase = w.Stands[0].Base, w.Stands[1].Base
	return nil
}

func (w *World) others(ctx context.Context) ([]*standins.Stand, error) {
	setup := standins.Setup{Key: w.key, Saved: w.saved, Day: w.options.Day.Truncate(24 * time.Hour)}
	o := &Others{Files: files.New(setup), SMS: sms.New(setup), Desk: helpdesk.New(setup), Model: textmodel.New(setup), Speech: speech.New(setup), Suppliers: suppliers.New(setup), Lab: lab.New(setup)}
	w.Others = o
	var err1, err2, err3, err4, err5, err6 error
	o.Documents, err1 = documents.New(setup)
	o.Chat, err2 = teamchat.New(setup)
	o.Calendar, err3 = calendar.New(setup)
	o.Forum, err4 = forum.New(setup)
	o.Feedback, err5 = feedback.New(setup)
	var port int
	o.Mail, port, err6 = mail.New(setup, w.Ports["smtp"])
	if err := errors.Join(err1, err2, err3, err4, err5, err6); err != nil {
		return nil, err
	}
	w.Ports["smtp"] = port
	list := []*standins.Stand{o.Documents.Stand, o.Files.Stand, o.Chat.Stand, o.SMS.Stand, o.Mail.Stand, o.Desk.Stand, o.Calendar.Stand, o.Model.Stand, o.Speech.Stand, register.New(setup).Stand,
		o.Forum.Stand, pages.New(setup), search.New(setup).Stand, o.Feedback.Stand, statistics.New(setup), o.Suppliers.Stand, o.Lab.Stand}
	if w.Cluster != nil {
		address, err := w.Cluster.Database(ctx, w.worksName())
		if err != nil {
			return nil, err
		}
		db, err := works.New(ctx, setup, address)
		if err != nil {
			return nil, err
		}
		list = append(list, db.Stand)
	}
	return list, nil
}

func (w *World) worksName() string {
	name := w.options.Database
	if name == "" {
		name = "trellis"
	}
	return name + "_works"
}

// excepted are the databases on our own server that the workspace may ask.
func (w *World) excepted() []string {
	if w.options.Few {
		return nil
	}
	return []string{w.worksName()}
}

func (w *World) dropWorks() {
	if w.Cluster != nil && !w.own && !w.options.Few {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		_ = w.Cluster.Drop(ctx, w.worksName())
	}
}

// allowances are the stand-ins' addresses, and nothing else.
func (w *World) allowances() []string {
	var out []string
	for _, s := range w.Stands {
		out = append(out, host(s.Base))
		if s.Account["host"] != "" {
			out = append(out, net.JoinHostPort(s.Account["host"], s.Account["port"]))
		}
	}
	return out
}

// AccountOf is what a person enters as the account of a stand-in.
func (s *Standing) AccountOf() map[string]string {
	out := map[string]string{}
	for k, v := range s.Account {
		out[k] = v
	}
	if !s.NoAddress {
		out["address"] = s.Base
	}
	return out
}

// connect makes a connection to every stand-in, and keeps those that are there
// pointing at where the stand-ins are.
func (w *World) connect(ctx context.Context) error {
	for _, s := range w.Stands {
		if err := w.Connect(ctx, s); err != nil {
			return fmt.Errorf("connecting %s: %w", s.Connector, err)
		}
	}
	return nil
}

// Connect connects one stand-in under the name of its connector.
func (w *World) Connect(ctx context.Context, s *Standing) error {
	account, err := json.Marshal(s.AccountOf())
	if err != nil {
		return err
	}
	fields := api.Fields(account)
	if s.Values == nil {
		s.Values = map[string]string{}
	}
	known, err := Answer[api.Connection](w.Client.GetConnection(ctx, s.Connector))
	var status *Status
	switch {
	case errors.As(err, &status) && status.Code == http.StatusNotFound:
		body := api.NewConnection{Name: s.Connector, Connector: s.Connector, Account: fields, Values: &s.Values}
		if s.Method != "" {
			body.Method = &s.Method
		}
		known, err = Answer[api.Connection](w.Client.AddConnection(ctx, body))
	case err == nil && !sameAccount(known.Account, account):
		known, err = Answer[api.Connection](w.Client.MendConnection(ctx, s.Connector, api.MendConnection{Account: &fields, Values: &s.Values}))
	}
	if err != nil {
		return err
	}
	if known.State == "consent" {
		if err := w.Consent(ctx, s.Connector, "allow"); err != nil {
			return err
		}
		known, err = Answer[api.Connection](w.Client.ConfirmConnection(ctx, s.Connector))
	}
	if err == nil && known.State != "ok" {
		return errors.New(known.Words)
	}
	return err
}

func sameAccount(a, b []byte) bool {
	var x, y map[string]any
	return json.Unmarshal(a, &x) == nil && json.Unmarshal(b, &y) == nil && reflect.DeepEqual(x, y)
}

// Consent does what a person does on the consent page, and hands what came back
// to the service as the command line would.
func (w *World) Consent(ctx context.Context, connection, decision string) error {
	back, err := w.Decide(ctx, connection, decision)
	if err != nil {
		return err
	}
	_, err = Answer[api.Connection](w.Client.FinishConsent(ctx, back))
	return err
}

// Decide opens the consent page, decides there, and gives what it sends back.
func (w *World) Decide(ctx context.Context, connection, decision string) (api.Returned, error) {
	port := 9 // nobody listens; what is sent back is read from the redirect
	page, err := Answer[api.ConsentPage](w.Client.BeginConsent(ctx, connection, api.BeginConsent{Loopback: &port}))
	if err != nil {
		return api.Returned{}, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, page.Address, strings.NewReader(url.Values{"decision": {decision}}.Encode()))
	if err != nil {
		return api.Returned{}, err
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	res, err := http.DefaultTransport.RoundTrip(req)
	if err != nil {
		return api.Returned{}, err
	}
	defer res.Body.Close()
	to, err := url.Parse(res.Header.Get("Location"))
	if err != nil || to.Query().Get("state") == "" {
		b, _ := io.ReadAll(io.LimitReader(res.Body, 500))
		return api.Returned{}, fmt.Errorf("the consent page answered %d: %s", res.StatusCode, bytes.TrimSpace(b))
	}
	q := to.Query()
	text := func(name string) *string {
		if v := q.Get(name); v != "" {
			return &v
		}
		return nil
	}
	return api.Returned{State: q.Get("state"), Code: text("code"), Error: text("error"), ErrorDescription: text("error_description"), Iss: text("iss")}, nil
}

// Stand finds a stand-in by the name of its connector.
func (w *World) Stand(connector string) *Standing {
	for _, s := range w.Stands {
		if s.Connector == connector {
			return s
		}
	}
	return nil
}
