package server

import (
	"fmt"
	"net/http"
	"regexp"
	"strings"

	"youngtrellis/api"
	"youngtrellis/internal/connections"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/outbound"
	"youngtrellis/internal/store"
)

var connectionName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)

func invalid(field, message string) error {
	return &fault{status: http.StatusUnprocessableEntity, kind: "invalid_input", title: "Some fields are not right.", fields: []form.FieldError{{Field: field, Message: message}}}
}

// account reads and checks an account's parameters, and works out its pins:
// where the credentials may go, and where a client secret may.
func account(con *connector.Connector, way *connector.SignIn, fields api.Fields) (params map[string]any, pin, tokenPin string, err error) {
	if params, err = item.DecodeObject(fields); err != nil {
		return nil, "", "", invalid("account", err.Error())
	}
	for k, v := range params {
		if text, ok := v.(string); ok {
			params[k] = strings.TrimSuffix(strings.TrimSpace(text), "/")
		}
	}
	if len(con.Account) > 0 {
		schema, err := form.Compile(con.Account)
		if err != nil {
			return nil, "", "", err
		}
		if err := form.Validate(schema, con.AccountProperties(), params); err != nil {
			return nil, "", "", err
		}
	}
	base, err := con.BaseURL(params)
	if err != nil {
		return nil, "", "", invalid("account", err.Error())
	}
	if way.Method == connector.OAuth2 {
		e, err := way.OAuth.Endpoints(params)
		if err != nil {
			return nil, "", "", invalid("account", err.Error())
		}
		u, err := connector.ParseBase(e.Token)
		if err != nil {
			return nil, "", "", invalid("account", err.Error())
		}
		tokenPin = outbound.Origin(u)
	}
	return params, outbound.Origin(base), tokenPin, nil
}

func hint(secret string) string {
	if len(secret) < 12 {
		return ""
	}
	return secret[len(secret)-4:]
}

// entered reads what a person entered for a sign-in method.
func entered(way *connector.SignIn, secret *string, given *map[string]string) (map[string]string, string, error) {
	values := map[string]string{}
	for k, v := range or(given, nil) {
		values[k] = strings.TrimSpace(v)
	}
	if secret != nil {
		values["secret"] = strings.TrimSpace(*secret)
	}
	known := map[string]bool{}
	var wrong []form.FieldError
	for _, f := range way.Secrets() {
		known[f.Name] = true
		switch v := values[f.Name]; {
		case v == "" && f.Needed:
			wrong = append(wrong, form.FieldError{Field: f.Name, Message: f.Title + " is required and empty"})
		case strings.ContainsFunc(v, func(r rune) bool { return r < ' ' || r == 0x7f }):
			wrong = append(wrong, form.FieldError{Field: f.Name, Message: f.Title + " holds a line break or another control character; copy it again"})
		}
	}
	for k, v := range values {
		if !known[k] && v != "" {
			wrong = append(wrong, form.FieldError{Field: k, Message: fmt.Sprintf("%s is not asked for by this way of signing in", k)})
		}
	}
	if len(wrong) > 0 {
		return nil, "", &fault{status: http.StatusUnprocessableEntity, kind: "invalid_input", title: "Some fields are not right.", fields: wrong}
	}
	return values, hint(values["secret"]), nil
}

func wayOf(con *connector.Connector, method *string) (*connector.SignIn, error) {
	way, ok := con.Way(or(method, ""))
	if !ok {
		return nil, invalid("method", fmt.Sprintf("%s is not signed in to by %s", con.Title, *method))
	}
	return way, nil
}

// begins is the state of a connection that was just stored.
func begins(way *connector.SignIn) string {
	if way.Method == connector.OAuth2 && way.OAuth.Grant != connector.ClientCredentials {
		return store.ConnectionConsent
	}
	return store.ConnectionUnchecked
}

func wanted(way *connector.SignIn, scopes *[]string) ([]string, error) {
	if way.Method != connector.OAuth2 {
		return nil, nil
	}
	list, err := connections.Scopes(way.OAuth, or(scopes, nil))
	if err != nil {
		return nil, invalid("scopes", err.Error())
	}
	return list, nil
}
