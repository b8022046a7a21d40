// Package proof tells whether a call comes from who knows a secret: as a bearer token
// (RFC 6750), a password (RFC 7617), the value of a header, or by a signature of what
// is sent, HMAC (RFC 2104) over its raw bytes with a time and an id where there are any,
// also as the Standard Webhooks have it. Secrets are compared in constant time.
package proof

import (
	"crypto/hmac"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"hash"
	"net/http"
	"strconv"
	"strings"
	"time"
)

// Way is how a caller proves itself.
type Way string

// Ways.
const (
	Bearer    Way = "bearer"
	Basic     Way = "basic"
	InHeader  Way = "header"
	Signature Way = "signature"
	Standard  Way = "standard" // the Standard Webhooks
	Open      Way = "none"
)

// Rule is what one workflow asks of its callers.
type Rule struct {
	Way    Way
	Header string // that holds the secret, or the signature
	User   string // of Basic; "" for any
	// Of a Signature:
	Signed string        // what is signed: {body}, {time} and {id} with whatever stands between
	Hash   string        // sha256, sha512 or sha1
	Base64 bool          // how it is written; hexadecimal unless set
	Prefix string        // that stands before it, as sha256=
	TimeIn string        // header of its time, in seconds since 1970 or by RFC 3339; "" for none
	IDIn   string        // header of the delivery's id; "" for none
	Window time.Duration // by how much its time may differ from ours
}

// headers of the Standard Webhooks.
const (
	standardID   = "Webhook-Id"
	standardTime = "Webhook-Timestamp"
	standardSign = "Webhook-Signature"
	// standardWindow is what they ask for.
	standardWindow = 5 * time.Minute
)

// whole is the rule as Standard says it.
func (r Rule) whole() Rule {
	switch r.Way {
	case "": // whatever is not said proves by what everybody has
		r.Way = Bearer
	case Standard:
		return Rule{Way: Standard, Header: standardSign, Signed: "{id}.{time}.{body}", Hash: "sha256", Base64: true, Prefix: "v1,", TimeIn: standardTime, IDIn: standardID, Window: standardWindow}
	}
	return r
}

// ByHeader tells whether the proof stands in a header alone, so that it is known
// before the body is read.
func (r Rule) ByHeader() bool { return r.Way != Signature && r.Way != Standard && r.Way != Open }

// Open tells whether callers prove nothing.
func (r Rule) Open() bool { return r.Way == Open }

// Held lists the headers in which secrets and proofs come.
func (r Rule) Held() []string {
	r = r.whole()
	out := []string{"Authorization", "Cookie"}
	if r.Header != "" {
		out = append(out, http.CanonicalHeaderKey(r.Header))
	}
	return out
}

// Proof is how a call was proven.
type Proof struct {
	Secret int    // which of the secrets it was
	ID     string // of the delivery, where it is proven; "" where there is none
}

// A Refusal says why a call is not proven: to those whose workflow it is, never to the
// caller.
type Refusal struct{ Why string }

func (r *Refusal) Error() string { return r.Why }

func refuse(why string) (Proof, error) { return Proof{}, &Refusal{why} }

// Check tells by which secret a call is proven. The body is read only where the proof
// is not by header. The error is a *Refusal.
func (r Rule) Check(h http.Header, body []byte, secrets []string, now time.Time) (Proof, error) {
	r = r.whole()
	switch {
	case r.Way == Open:
		return Proof{Secret: -1}, nil
	case len(secrets) == 0:
		return refuse("no secret has been made for this address yet; make one on the call sheet")
	case !r.ByHeader():
		return r.signature(h, body, secrets, now)
	}
	given, why := r.given(h)
	if why != "" {
		return refuse(why)
	}
	for i, s := range secrets {
		if same(given, s) {
			return Proof{Secret: i}, nil
		}
	}
	if r.Way == InHeader {
		return refuse("the secret in the header " + r.Header + " is not the right one")
	}
	return refuse("the secret in the Authorization header is not the right one")
}

// same compares in constant time, whatever the lengths.
func same(a, b string) bool {
	x, y := sha256.Sum256([]byte(a)), sha256.Sum256([]byte(b))
	return subtle.ConstantTimeCompare(x[:], y[:]) == 1
}

// given is the secret that a header holds, or why there is none.
func (r Rule) given(h http.Header) (secret, why string) {
	sent := h.Get("Authorization")
	switch {
	case r.Way == InHeader:
		if sent = h.Get(r.Header); sent == "" {
			return "", "the call had no header " + r.Header + ", in which the secret comes"
		}
		return strings.TrimSpace(sent), ""
	case sent == "" && r.Way == Bearer:
		return "", "the call had no Authorization header; it should be: Authorization: Bearer and the secret"
	case sent == "":
		return "", "the call had no Authorization header; it should be Basic, with the secret as the password"
	case r.Way == Bearer:
		token, ok := strings.CutPrefix(sent, "Bearer ")
		if !ok {
			return "", "the Authorization header does not begin with Bearer"
		}
		return strings.TrimSpace(token), ""
	}
	coded, ok := strings.CutPrefix(sent, "Basic ")
	if !ok {
		return "", "the Authorization header does not begin with Basic"
	}
	pair, err := base64.StdEncoding.DecodeString(strings.TrimSpace(coded))
	user, password, cut := strings.Cut(string(pair), ":")
	if err != nil || !cut {
		return "", "what follows Basic is no user and password in base64"
	}
	if r.User != "" && !same(user, r.User) {
		return "", "the user in the Authorization header is another than " + r.User
	}
	return password, ""
}

// signature checks what is signed.
func (r Rule) signature(h http.Header, body []byte, secrets []string, now time.Time) (Proof, error) {
	sent := h.Get(r.Header)
	if sent == "" {
		return refuse("the call had no header " + r.Header + ", in which the signature comes")
	}
	at, id := h.Get(r.TimeIn), h.Get(r.IDIn)
	if r.TimeIn != "" {
		if why := r.late(at, now); why != "" {
			return refuse(why)
		}
	}
	if r.IDIn != "" && id == "" {
		return refuse("the call had no header " + r.IDIn + ", in which its id comes")
	}
	signed := r.signed(at, id, body)
	for i, s := range secrets {
		key, err := r.key(s)
		if err != nil {
			continue
		}
		mac := hmac.New(hashes[r.Hash], key)
		mac.Write(signed)
		if r.holds(sent, mac.Sum(nil)) {
			return Proof{Secret: i, ID: id}, nil
		}
	}
	return refuse("the signature in the header " + r.Header + " is not that of what was sent, with the secret as it is here")
}

var hashes = map[string]func() hash.Hash{"sha256": sha256.New, "sha512": sha512.New, "sha1": sha1.New, "": sha256.New}

// signed is what the signature is of.
func (r Rule) signed(at, id string, body []byte) []byte {
	before, after, _ := strings.Cut(r.Signed, "{body}")
	fill := strings.NewReplacer("{time}", at, "{id}", id)
	out := append([]byte(fill.Replace(before)), body...)
	return append(out, fill.Replace(after)...)
}

// key is a secret as it signs.
func (r Rule) key(secret string) ([]byte, error) {
	if r.Way != Standard {
		return []byte(secret), nil
	}
	return base64.StdEncoding.DecodeString(strings.TrimPrefix(secret, StandardPrefix))
}

// StandardPrefix stands before the secrets of the Standard Webhooks, which are base64.
const StandardPrefix = "whsec_"

// holds tells whether a header has a signature: one, or several with spaces or commas
// between, as while secrets are changed.
func (r Rule) holds(sent string, want []byte) bool {
	found := false
	for _, one := range strings.Fields(strings.ReplaceAll(sent, ", ", " ")) {
		text, ok := strings.CutPrefix(one, r.Prefix)
		if !ok {
			continue
		}
		got, err := hex.DecodeString(text)
		if r.Base64 {
			got, err = base64.StdEncoding.DecodeString(text)
		}
		if err == nil && hmac.Equal(got, want) {
			found = true
		}
	}
	return found
}

// late says why a time is not taken; "" where it is.
func (r Rule) late(sent string, now time.Time) string {
	if sent == "" {
		return "the call had no header " + r.TimeIn + ", in which its time comes"
	}
	at, err := time.Parse(time.RFC3339, sent)
	if n, errN := strconv.ParseInt(sent, 10, 64); errN == nil {
		at, err = time.Unix(n, 0), nil
	}
	if err != nil {
		return "the time in the header " + r.TimeIn + " is neither seconds since 1970 nor as 2026-11-28T09:30:00Z"
	}
	if off := now.Sub(at).Abs(); off > r.Window {
		return "its time, " + at.UTC().Format(time.RFC3339) + ", is more than " + r.Window.String() + " from ours: it was sent long ago, or a clock is wrong"
	}
	return ""
}

// Prove gives the headers by which a call with this body is proven, as its caller would.
func (r Rule) Prove(body []byte, secret, id string, now time.Time) (http.Header, error) {
	r = r.whole()
	h := http.Header{}
	switch r.Way {
	case Open:
	case Bearer:
		h.Set("Authorization", "Bearer "+secret)
	case Basic:
		user := r.User
		if user == "" {
			user = "test"
		}
		h.Set("Authorization", "Basic "+base64.StdEncoding.EncodeToString([]byte(user+":"+secret)))
	case InHeader:
		h.Set(r.Header, secret)
	default:
		key, err := r.key(secret)
		if err != nil {
			return nil, fmt.Errorf("the secret signs nothing: %w", err)
		}
		at := ""
		if r.TimeIn != "" {
			at = strconv.FormatInt(now.Unix(), 10)
			h.Set(r.TimeIn, at)
		}
		if r.IDIn != "" {
			h.Set(r.IDIn, id)
		}
		mac := hmac.New(hashes[r.Hash], key)
		mac.Write(r.signed(at, id, body))
		text := hex.EncodeToString(mac.Sum(nil))
		if r.Base64 {
			text = base64.StdEncoding.EncodeToString(mac.Sum(nil))
		}
		h.Set(r.Header, r.Prefix+text)
	}
	return h, nil
}
