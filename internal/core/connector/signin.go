package connector

import (
	"crypto/hmac"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"youngtrellis/internal/core/expr"
)

// Methods of signing in.
const (
	None   = "none"
	APIKey = "api_key"
	Basic  = "basic"
	Bearer = "bearer"
	HMAC   = "hmac"
	OAuth2 = "oauth2"
	Login  = "login" // user and password of a protocol that is not HTTP
)

var signInMethods = []string{None, APIKey, Basic, Bearer, HMAC, OAuth2, Login}

// SignIn is one way to prove who we are.
type SignIn struct {
	Name   string   `doc:"name"` // where there are several ways of one method; that of the method unless given
	Method string   `doc:"method,required"`
	Title  string   `doc:"title,required"`
	Help   string   `doc:"help"`   // where to find what is asked for
	Header string   `doc:"header"` // for api_key: the header that takes it
	Query  string   `doc:"query"`  // or the query parameter
	Form   string   `doc:"form"`   // or the field of a form that is sent
	JSON   string   `doc:"json"`   // or the member of a JSON object that is sent
	Path   string   `doc:"path"`   // or a mark in the path, which it stands in for
	Prefix string   `doc:"prefix"` // before the key or token; "Bearer" for bearer unless given
	Secret string   `doc:"secret"` // what the secret is called
	User   string   `doc:"user"`   // for basic and login: what the user name is called
	Also   []Place  `doc:"also"`   // further keys
	HMAC   *Signing `doc:"signing"`
	OAuth  *OAuth   `doc:"oauth"`
}

// Place is where a further key goes.
type Place struct {
	Name   string `doc:"name,required"`
	Title  string `doc:"title,required"`
	Header string `doc:"header"`
	Query  string `doc:"query"`
	Form   string `doc:"form"`
	JSON   string `doc:"json"`
	Path   string `doc:"path"`
	Prefix string `doc:"prefix"`
}

// Called is the name by which the way is chosen and a connection keeps it.
func (s *SignIn) Called() string {
	if s.Name != "" {
		return s.Name
	}
	return s.Method
}

// place is where the secret of an api_key goes.
func (s *SignIn) place() Place {
	return Place{Header: s.Header, Query: s.Query, Form: s.Form, JSON: s.JSON, Path: s.Path, Prefix: s.Prefix}
}

// Signing says how a request is signed, or a delivery verified. Over is a
// template over method, path, query, host, time, nonce, body and body_hash; it
// cannot see a secret.
type Signing struct {
	Algorithm  string `doc:"algorithm"` // sha256 unless given, sha1, sha512
	Encoding   string `doc:"encoding"`  // hex unless given, base64
	Over       string `doc:"over,required"`
	Header     string `doc:"header,required"` // takes the signature
	Prefix     string `doc:"prefix"`
	KeyHeader  string `doc:"key_header"`  // takes the key's id
	KeyTitle   string `doc:"key_title"`   // what the key's id is called
	TimeHeader string `doc:"time_header"` // takes the time
	TimeForm   string `doc:"time_form"`   // unix unless given, rfc3339, http

	over *expr.Template
}

// OAuth describes an authorization server (RFC 6749). PKCE with S256 (RFC 7636)
// and a single-use state go with every authorization.
type OAuth struct {
	Grant     string            `doc:"grant"`     // authorization_code unless given, client_credentials
	Authorize string            `doc:"authorize"` // templates over account
	Token     string            `doc:"token,required"`
	Revoke    string            `doc:"revoke"`
	Issuer    string            `doc:"issuer"` // what iss must be (RFC 9207)
	Scopes    []Scope           `doc:"scopes"`
	Separator string            `doc:"separator"` // between scopes; a blank unless given
	Extra     map[string]string `doc:"extra"`     // further parameters of the authorization address
	Client    string            `doc:"client"`    // how the client proves itself: basic unless given, body

	authorize, token, revoke, issuer *expr.Template
}

// Scope is something that can be asked for.
type Scope struct {
	Name   string `doc:"name,required"`
	Title  string `doc:"title,required"`
	Always bool   `doc:"always"`
}

// Grants of OAuth 2.
const (
	AuthorizationCode = "authorization_code"
	ClientCredentials = "client_credentials"
)

func (s *SignIn) compile(k *compiler, path string) {
	if !slices.Contains(signInMethods, s.Method) {
		k.add(path+".method", fmt.Errorf("%q is not a sign-in method; there are %s", s.Method, strings.Join(signInMethods, ", ")))
		return
	}
	switch s.Method {
	case APIKey:
		s.place().compile(k, path)
	case HMAC:
		if s.HMAC == nil {
			k.add(path, errors.New("signing says how requests are signed, and is missing here"))
			return
		}
		s.HMAC.compile(k, path+".signing")
	case OAuth2:
		if s.OAuth == nil {
			k.add(path, errors.New("oauth names the authorization server, and is missing here"))
			return
		}
		s.OAuth.compile(k, path+".oauth")
	}
	for i, p := range s.Also {
		p.compile(k, fmt.Sprintf("%s.also[%d]", path, i))
	}
}

func (s *Signing) compile(k *compiler, path string) {
	s.over = k.template(path+".over", s.Over, ofSigned)
	if s.newHash() == nil {
		k.add(path+".algorithm", fmt.Errorf("the algorithm is sha256, sha512 or sha1, not %q", s.Algorithm))
	}
	if !slices.Contains([]string{"", "hex", "base64"}, s.Encoding) {
		k.add(path+".encoding", fmt.Errorf("the encoding is hex or base64, not %q", s.Encoding))
	}
	if !slices.Contains([]string{"", "unix", "rfc3339", "http"}, s.TimeForm) {
		k.add(path+".time_form", fmt.Errorf("the form is unix, rfc3339 or http, not %q", s.TimeForm))
	}
}

func (s *Signing) newHash() func() hash.Hash {
	switch s.Algorithm {
	case "", "sha256":
		return sha256.New
	case "sha512":
		return sha512.New
	case "sha1":
		return sha1.New
	}
	return nil
}

func (o *OAuth) compile(k *compiler, path string) {
	if !slices.Contains([]string{"", AuthorizationCode, ClientCredentials}, o.Grant) {
		k.add(path+".grant", fmt.Errorf("the grant is authorization_code or client_credentials, not %q", o.Grant))
	}
	if o.Grant != ClientCredentials && o.Authorize == "" {
		k.add(path+".authorize", errors.New("the address of the consent page is missing"))
	}
	if !slices.Contains([]string{"", "basic", "body"}, o.Client) {
		k.add(path+".client", fmt.Errorf("the client proves itself by basic or body, not %q", o.Client))
	}
	o.authorize, o.token = k.template(path+".authorize", o.Authorize, ofAccount), k.template(path+".token", o.Token, ofAccount)
	o.revoke, o.issuer = k.template(path+".revoke", o.Revoke, ofAccount), k.template(path+".issuer", o.Issuer, ofAccount)
	for name := range o.Extra {
		if slices.Contains([]string{"state", "client_id", "redirect_uri", "response_type", "code_challenge", "code_challenge_method", "scope"}, name) {
			k.add(path+".extra."+name, fmt.Errorf("%s is set by us", name))
		}
	}
}

// Secret is something that a person enters to sign in.
type Secret struct {
	Name   string
	Title  string
	Shown  bool // not a secret in itself: a user name, a client id
	Needed bool
}

// Secrets lists what a person enters for this method, in order.
func (s *SignIn) Secrets() []Secret {
	title := func(given, otherwise string) string {
		if given != "" {
			return given
		}
		return otherwise
	}
	var out []Secret
	switch s.Method {
	case APIKey:
		out = []Secret{{"secret", title(s.Secret, "API key"), false, true}}
	case Bearer:
		out = []Secret{{"secret", title(s.Secret, "Token"), false, true}}
	case Basic, Login:
		out = []Secret{{"user", title(s.User, "User name"), true, true}, {"secret", title(s.Secret, "Password"), false, s.Method == Login}}
	case HMAC:
		if s.HMAC != nil && s.HMAC.KeyHeader != "" {
			out = append(out, Secret{"key_id", title(s.HMAC.KeyTitle, "Key id"), true, true})
		}
		out = append(out, Secret{"secret", title(s.Secret, "Signing secret"), false, true})
	case OAuth2:
		out = []Secret{{"client_id", "Client id", true, true}, {"secret", "Client secret", false, false}}
	}
	for _, p := range s.Also {
		out = append(out, Secret{p.Name, p.Title, false, true})
	}
	return out
}

// Endpoints are the addresses of an authorization server for one account.
type Endpoints struct{ Authorize, Token, Revoke, Issuer string }

// Endpoints works the addresses out for an account.
func (o *OAuth) Endpoints(account map[string]any) (Endpoints, error) {
	var e Endpoints
	scope := &expr.Scope{Names: map[string]any{"account": account}}
	for _, p := range []struct {
		t  *expr.Template
		to *string
	}{{o.authorize, &e.Authorize}, {o.token, &e.Token}, {o.revoke, &e.Revoke}, {o.issuer, &e.Issuer}} {
		if p.t == nil {
			continue
		}
		v, err := p.t.Eval(scope)
		if err != nil {
			return e, err
		}
		*p.to = expr.Text(v)
		if u, err := url.Parse(*p.to); err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" {
			return e, fmt.Errorf("%q is not the address of an authorization server", *p.to)
		}
	}
	return e, nil
}

// Credentials are what a person entered, opened for the length of a call, and
// the access token where there is one.
type Credentials struct {
	Values map[string]string
	Token  string // OAuth 2 access token
}

// All lists every value that must not be seen anywhere.
func (c *Credentials) All(s *SignIn) []string {
	if c == nil {
		return nil
	}
	out := []string{}
	for _, k := range sortedKeys(c.Values) {
		if !slices.ContainsFunc(s.Secrets(), func(x Secret) bool { return x.Name == k && x.Shown }) && c.Values[k] != "" {
			out = append(out, c.Values[k])
		}
	}
	if c.Token != "" {
		out = append(out, c.Token)
	}
	if user, secret := c.Values["user"], c.Values["secret"]; user != "" && secret != "" {
		out = append(out, user+":"+secret)
	}
	return out
}

// Signed is a request on its way to be proven.
type Signed struct {
	Method string
	URL    *url.URL
	Header http.Header
	Body   []byte
	Stream bool // the body is not known before it is sent
	Now    time.Time
	Nonce  string
}

// Apply puts the credentials into a request. It is the only place where they
// meet one.
func (s *SignIn) Apply(r *Signed, c *Credentials) error {
	v := c.Values
	switch s.Method {
	case None, Login:
	case APIKey:
		if err := s.place().put(r, v["secret"]); err != nil {
			return err
		}
	case Bearer:
		prefix := s.Prefix
		if prefix == "" {
			prefix = "Bearer"
		}
		r.Header.Set("Authorization", prefix+" "+v["secret"])
	case Basic:
		r.Header.Set("Authorization", "Basic "+base64.StdEncoding.EncodeToString([]byte(v["user"]+":"+v["secret"])))
	case OAuth2:
		prefix := s.Prefix
		if prefix == "" {
			prefix = "Bearer"
		}
		r.Header.Set("Authorization", prefix+" "+c.Token)
	case HMAC:
		return s.HMAC.sign(r, v)
	}
	for _, p := range s.Also {
		if err := p.put(r, v[p.Name]); err != nil {
			return err
		}
	}
	return nil
}

// Codes tells whether connections that sign in by a method have a key, token or
// password of their own, by which codes can be made.
func Codes(method string) bool { return method != None && method != OAuth2 }

// Code makes a code of a text (HMAC-SHA-256, RFC 2104) by the key, token or
// password of a connection.
func (s *SignIn) Code(c *Credentials, text string) ([]byte, error) {
	if !Codes(s.Method) || c.Values["secret"] == "" {
		return nil, errors.New("the connection has no key, token or password of its own")
	}
	mac := hmac.New(sha256.New, []byte(c.Values["secret"]))
	mac.Write([]byte(text))
	return mac.Sum(nil), nil
}

func (s *Signing) sign(r *Signed, v map[string]string) error {
	at := ""
	switch s.TimeForm {
	case "", "unix":
		at = strconv.FormatInt(r.Now.Unix(), 10)
	case "rfc3339":
		at = r.Now.UTC().Format(time.RFC3339)
	case "http":
		at = r.Now.UTC().Format(http.TimeFormat)
	}
	if r.Stream && strings.Contains(s.Over, "body") {
		return errors.New("a request with a file in it cannot be signed over its body")
	}
	mac, err := s.Signature(r, at, v["secret"])
	if err != nil {
		return err
	}
	r.Header.Set(s.Header, s.Prefix+mac)
	if s.TimeHeader != "" {
		r.Header.Set(s.TimeHeader, at)
	}
	if s.KeyHeader != "" {
		r.Header.Set(s.KeyHeader, v["key_id"])
	}
	return nil
}

// Signature computes the code over what the document names.
func (s *Signing) Signature(r *Signed, at, secret string) (string, error) {
	sum := s.newHash()()
	sum.Write(r.Body)
	text, err := s.over.Eval(&expr.Scope{Names: map[string]any{
		"method": r.Method, "path": r.URL.EscapedPath(), "query": r.URL.RawQuery, "host": r.URL.Host,
		"time": at, "nonce": r.Nonce, "body": string(r.Body), "body_hash": hex.EncodeToString(sum.Sum(nil)),
	}})
	if err != nil {
		return "", err
	}
	mac := hmac.New(s.newHash(), []byte(secret))
	mac.Write([]byte(expr.Text(text)))
	if s.Encoding == "base64" {
		return base64.StdEncoding.EncodeToString(mac.Sum(nil)), nil
	}
	return hex.EncodeToString(mac.Sum(nil)), nil
}
