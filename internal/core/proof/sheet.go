package proof

import (
	"encoding/base64"
	"errors"
	"strings"
)

// By is the way of the rule.
func (r Rule) By() Way { return r.whole().Way }

// Words says to the other side how a call proves itself.
func (r Rule) Words() string {
	r = r.whole()
	switch r.Way {
	case Open:
		return "Nothing is proven: whoever knows the address may call it."
	case Bearer:
		return "The secret comes in the header Authorization, as: Bearer SECRET."
	case Basic:
		user := "any user"
		if r.User != "" {
			user = "the user " + r.User
		}
		return "The header Authorization is Basic, with " + user + " and the secret as the password."
	case InHeader:
		return "The secret comes in the header " + r.Header + "."
	}
	out := "The header " + r.Header + " holds the HMAC, with the hash " + strings.ToUpper(or(r.Hash, "sha256")) + " and the secret as the key, of " + or(r.Signed, "{body}")
	if out += ", in hexadecimal digits"; r.Base64 {
		out = strings.TrimSuffix(out, ", in hexadecimal digits") + ", in base64"
	}
	if r.Prefix != "" {
		out += ", behind " + r.Prefix
	}
	for _, x := range []struct{ name, header string }{{"{time}", r.TimeIn}, {"{id}", r.IDIn}} {
		if x.header != "" {
			out += "; " + x.name + " is what the header " + x.header + " holds"
		}
	}
	if r.Way == Standard {
		out += " (Standard Webhooks)"
	}
	return out + "."
}

func or(s, otherwise string) string {
	if s == "" {
		return otherwise
	}
	return s
}

// Fits tells whether a text can be a secret of the rule.
func (r Rule) Fits(secret string) error {
	if r.By() != Standard {
		return nil
	}
	key, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(secret, StandardPrefix))
	if err != nil || len(key) < 16 {
		return errors.New("a secret of the Standard Webhooks is base64 of 16 bytes or more, behind " + StandardPrefix)
	}
	return nil
}
