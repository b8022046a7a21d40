package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
)

// entering are the flags by which a sign-in is entered.
type entering struct {
	account, shown, scopes []string
	secretFile, valuesFile string
	method                 string
}

func (e *entering) register(c *cobra.Command) {
	c.Flags().StringArrayVar(&e.account, "account", nil, "a parameter of the account, as address=https://tables.example")
	c.Flags().StringArrayVar(&e.shown, "value", nil, "what is asked for and is no secret, as user=hall or client_id=…")
	c.Flags().StringArrayVar(&e.scopes, "scope", nil, "a scope to ask for; all that the connector names unless given")
	c.Flags().StringVar(&e.secretFile, "secret-file", "", "file that holds the secret; - for standard input")
	c.Flags().StringVar(&e.valuesFile, "values-file", "", "file with everything that is asked for, a JSON object of names and values; - for standard input")
	c.Flags().StringVar(&e.method, "method", "", "way to sign in, where there are several")
}

// values asks for what the connector's sign-in method needs.
func (a *app) values(e *entering, con api.Connector) (map[string]string, error) {
	values, err := assignments("value", e.shown)
	if err != nil {
		return nil, err
	}
	way, err := wayOf(con, e.method)
	if err != nil {
		return nil, err
	}
	if e.valuesFile != "" {
		b, err := a.read(e.valuesFile)
		if err != nil {
			return nil, err
		}
		return values, json.Unmarshal(b, &values)
	}
	if way.Help != "" && len(way.Secrets) > 0 {
		fmt.Fprintln(a.errOut, way.Help)
	}
	for _, f := range way.Secrets {
		if values[f.Name] != "" {
			if !f.Shown {
				return nil, usage("%s is a secret and is not given on the command line, where others can read it; use --secret-file, --values-file or standard input", f.Title)
			}
			continue
		}
		switch {
		case f.Shown && !f.Required:
		case f.Shown:
			return nil, usage("%s is missing; give it with --value %s=…", f.Title, f.Name)
		case f.Name == "secret":
			if values["secret"], err = a.secret(f.Title, e.secretFile); err != nil && f.Required {
				return nil, err
			}
		default:
			return nil, usage("%s is missing; with several secrets, put all of them into a file and name it with --values-file", f.Title)
		}
	}
	return values, nil
}

func wayOf(con api.Connector, method string) (api.Way, error) {
	var known []string
	for _, w := range con.SignIn {
		if method == "" || w.Name == method {
			return w, nil
		}
		known = append(known, w.Name)
	}
	return api.Way{}, usage("%s is not signed in to by %s; there are %s", con.Title, method, strings.Join(known, ", "))
}

// connectionSignIn prints the consent page's address and listens on loopback
// for the one request that it sends back (RFC 8252, section 7.3).
func (a *app) connectionSignIn() *cobra.Command {
	var scopes []string
	c := &cobra.Command{Use: "sign-in NAME", Short: "Sign in through the application's consent page", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return err
		}
		defer l.Close()
		port := l.Addr().(*net.TCPAddr).Port
		body := api.BeginConsent{Loopback: &port}
		if scopes != nil {
			body.Scopes = &scopes
		}
		page, err := got[api.ConsentPage](cl.BeginConsent(c.Context(), args[0], body))
		if err != nil {
			return err
		}
		fmt.Fprintf(a.errOut, "Open this page, and consent there:\n\n  %s\n\nWaiting for it to come back to %s\n", page.Address, page.Redirect)
		back := make(chan api.Returned, 1)
		server := &http.Server{ReadHeaderTimeout: 10 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			q := r.URL.Query()
			if r.Method != http.MethodGet || r.URL.Path != "/callback" || q.Get("state") == "" {
				http.NotFound(w, r)
				return
			}
			w.Header().Set("Content-Type", "text/plain; charset=utf-8")
			w.Header().Set("Referrer-Policy", "no-referrer")
			w.Header().Set("Cache-Control", "no-store")
			_, _ = io.WriteString(w, "Back to the command line: this page can be closed.\n")
			text := func(name string) *string {
				if v := q.Get(name); v != "" {
					return &v
				}
				return nil
			}
			select {
			case back <- api.Returned{State: q.Get("state"), Code: text("code"), Error: text("error"), ErrorDescription: text("error_description"), Iss: text("iss")}:
			default:
			}
		})}
		go func() { _ = server.Serve(l) }()
		defer server.Close()
		var r api.Returned
		select {
		case <-c.Context().Done():
			return c.Context().Err()
		case <-time.After(10 * time.Minute):
			return fmt.Errorf("nobody consented within ten minutes; begin again")
		case r = <-back:
		}
		k, err := got[api.Connection](cl.FinishConsent(c.Context(), r))
		if err != nil {
			return err
		}
		if k.State != "confirm" {
			return a.checked(k)
		}
		return a.confirm(c, cl, k)
	})}
	c.Flags().StringArrayVar(&scopes, "scope", nil, "a scope to ask for; those chosen before unless given")
	return c
}

// confirm asks whether the account that signed in is the right one.
func (a *app) confirm(c *cobra.Command, cl *api.Client, k api.Connection) error {
	fmt.Fprintf(a.errOut, "Signed in as %s.\n", k.Said)
	if !a.yes {
		if _, ok := a.asks(); !ok {
			fmt.Fprintf(a.errOut, "If that is the right account: trellis connection confirm %s\n", k.Name)
			return nil
		}
		fmt.Fprint(a.errOut, "Is that the right account? [y/N] ")
		var answer string
		_, _ = fmt.Fscanln(a.in, &answer)
		if !strings.HasPrefix(strings.ToLower(answer), "y") {
			fmt.Fprintln(a.errOut, "Nothing was made active. Sign in again with another account.")
			return nil
		}
	}
	k, err := got[api.Connection](cl.ConfirmConnection(c.Context(), k.Name))
	if err != nil {
		return err
	}
	return a.checked(k)
}

func (a *app) connectionConfirm() *cobra.Command {
	return &cobra.Command{Use: "confirm NAME", Short: "Say that the account that signed in is the right one", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		k, err := got[api.Connection](cl.ConfirmConnection(c.Context(), args[0]))
		if err != nil {
			return err
		}
		return a.checked(k)
	})}
}
