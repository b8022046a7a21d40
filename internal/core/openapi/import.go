package openapi

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/document"
)

// Options of an import.
type Options struct {
	Name    string // of the connector; from the title unless given
	Address string // where the document was found
	most    int    // bytes that are written out; 0: MaxWritten
}

// LeftOut is something that could not be taken.
type LeftOut struct{ What, Why string }

// Imported is a connector document made of an OpenAPI document. Its servers
// are to be seen by a person before they become a connection's pins.
type Imported struct {
	Document     string
	Connector    *connector.Connector
	Reads        int
	Writes       int
	Servers      []string
	TokenServers []string
	LeftOut      []LeftOut
}

type importer struct {
	root    *node
	options Options
	out     *Imported
	seen    map[LeftOut]bool
	doc     *yaml.Node
	ways    []any
	account *yaml.Node
	deepest int
	budget  int                      // bytes that may still be written out
	refs    map[string]*node         // what references lead to
	leaves  map[*node]map[string]any // what schemas say by themselves, told of once
	ctx     context.Context          // of the import: who asked may have left
	origin  string                   // of the base, where it is fixed
	under   string                   // path of the document's own server, where operations have others
	places  map[string]string        // action to the operation that it was made of
	open    bool                     // some operations are called without signing in
}

// Import reads an OpenAPI document. It gives up with ctx.
func Import(ctx context.Context, source []byte, o Options) (*Imported, error) {
	root, err := parse(ctx, source)
	if err != nil {
		return nil, err
	}
	version := text(root, "openapi")
	switch {
	case text(root, "swagger") != "":
		return nil, fmt.Errorf("this is version %s of the format, before OpenAPI 3; convert it to version 3 first", text(root, "swagger"))
	case !strings.HasPrefix(version, "3.0") && !strings.HasPrefix(version, "3.1"):
		return nil, fmt.Errorf("this is no OpenAPI document of version 3.0 or 3.1: its key openapi says %q", version)
	}
	var im *importer
	if o.most == 0 {
		o.most = MaxWritten
	}
	refs := map[string]*node{}
	for depth := deepest; ; depth-- {
		im = &importer{root: root, options: o, out: &Imported{}, seen: map[LeftOut]bool{}, account: object(), deepest: depth, budget: o.most, refs: refs, leaves: map[*node]map[string]any{}, ctx: ctx, places: map[string]string{}}
		err := im.build()
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		if err != nil {
			return nil, err
		}
		if im.budget > 0 || depth == 1 {
			break
		} // written out so far it would be too large: less deep, what lies below takes anything
	}
	b, err := written(im.doc)
	if err != nil {
		return nil, err
	}
	out := im.out
	doc, places := im.doc, im.places
	im, root, refs = nil, nil, nil // to read what was made takes as much again
	for {
		out.Document = string(b)
		c, problems := connector.Examine(b)
		if out.Connector = c; c != nil && !slices.ContainsFunc(problems, wrong) {
			return out, nil
		}
		// A part that is not right as an action is no reason to refuse the rest.
		if !out.without(doc, places, problems) {
			_, err := connector.Parse(b)
			return nil, fmt.Errorf("the connector made of it is not right: %w", err)
		}
		if b, err = written(doc); err != nil {
			return nil, err
		}
	}
}

func wrong(p document.Problem) bool { return p.Severity == document.SeverityError }

// without takes actions out that are not right, and lists the operations that they were
// made of; false where it is something else that is wrong.
func (out *Imported) without(doc *node, places map[string]string, problems []document.Problem) bool {
	actions, order := at(doc, "actions"), at(doc, "order")
	some := false
	for _, p := range problems {
		parts := strings.Split(p.Path, ".")
		if !wrong(p) || len(parts) < 2 || parts[0] != "actions" {
			continue
		}
		name := parts[1]
		for i := 0; i+1 < len(actions.Content); i += 2 {
			if actions.Content[i].Value != name {
				continue
			}
			if text(actions.Content[i+1], "effect") == "read" {
				out.Reads--
			} else {
				out.Writes--
			}
			actions.Content = slices.Delete(actions.Content, i, i+2)
			order.Content = slices.DeleteFunc(order.Content, func(n *node) bool { return n.Value == name })
			out.LeftOut = append(out.LeftOut, LeftOut{places[name], p.Message})
			some = true
			break
		}
	}
	return some && len(actions.Content) > 0
}

// writtenAtOnce is how many values of actions are written out together: the YAML
// library remembers all that it has written until it is done, at a hundred times its
// length.
const writtenAtOnce = 4000

// values counts what is within a node, and itself.
func values(n *node) int {
	count := 1
	for _, c := range n.Content {
		count += values(c)
	}
	return count
}

// written writes the document out, its actions part by part.
func written(d *node) (out []byte, err error) {
	add := func(indent string, entries []*node) error {
		b, err := document.Encode(&node{Kind: yaml.MappingNode, Content: entries})
		for line := range bytes.Lines(b) {
			if len(bytes.TrimSpace(line)) > 0 {
				out = append(out, indent...)
			}
			out = append(out, line...)
		}
		return err
	}
	for i := 0; i+1 < len(d.Content) && err == nil; i += 2 {
		key, v := d.Content[i], d.Content[i+1]
		if key.Value != "actions" || len(v.Content) == 0 {
			err = add("", []*node{key, v})
			continue
		}
		out = append(out, "actions:\n"...)
		for from, n, k := 0, 0, 0; k < len(v.Content) && err == nil; k += 2 {
			if n += values(v.Content[k+1]); n >= writtenAtOnce || k+2 == len(v.Content) {
				err = add("  ", v.Content[from:k+2])
				from, n = k+2, 0
			}
		}
	}
	return out, err
}

func (im *importer) leaveOut(what, why string) {
	l := LeftOut{what, why}
	if !im.seen[l] && len(im.seen) < mostLeftOut {
		im.seen[l] = true
		im.out.LeftOut = append(im.out.LeftOut, l)
	}
}

// mostLeftOut is how much of what could not be taken is told.
const mostLeftOut = 1000

func object() *node { return &node{Kind: yaml.MappingNode, Tag: "!!map"} }

// set adds an entry to an object being made.
func set(n *node, key string, v any) {
	value, ok := v.(*node)
	if !ok {
		value = nodeOf(v)
	}
	n.Content = append(n.Content, nodeOf(key), value)
}

// nodeOf makes a node of a value, without what was only for us. To let the YAML
// library write each one out and read it again takes twenty times as long.
func nodeOf(v any) *node {
	switch v := v.(type) {
	case string:
		return &node{Kind: yaml.ScalarNode, Tag: "!!str", Value: v}
	case bool:
		return &node{Kind: yaml.ScalarNode, Tag: "!!bool", Value: strconv.FormatBool(v)}
	case int:
		return &node{Kind: yaml.ScalarNode, Tag: "!!int", Value: strconv.Itoa(v)}
	case nil:
		return &node{Kind: yaml.ScalarNode, Tag: "!!null", Value: "null"}
	case map[string]any:
		out := object()
		for _, k := range slices.Sorted(maps.Keys(v)) {
			if !strings.HasPrefix(k, "\x00") {
				out.Content = append(out.Content, nodeOf(k), nodeOf(v[k]))
			}
		}
		return out
	case []any:
		out := &node{Kind: yaml.SequenceNode, Tag: "!!seq"}
		for _, e := range v {
			out.Content = append(out.Content, nodeOf(e))
		}
		return out
	case *node:
		return v
	}
	out := &node{}
	if out.Encode(v) != nil {
		return nodeOf(nil)
	}
	return out
}

func (im *importer) build() error {
	title := sentenceOf(text(im.root, "info", "title"), 80)
	if title == "" {
		title = "An application"
	}
	name := im.options.Name
	if name == "" {
		name = strings.ReplaceAll(snake(title), "_", "-")
	}
	if name == "" {
		name = "imported"
	}
	d := object()
	im.doc = d
	set(d, "format", connector.Format)
	set(d, "name", name)
	set(d, "title", title)
	if about := sentenceOf(text(im.root, "info", "description"), 400); about != "" {
		set(d, "about", about)
	}
	if docs := text(im.root, "externalDocs", "url"); connector.SafeLink(docs) {
		set(d, "docs", docs)
	}
	set(d, "version", 1)
	base, err := im.base()
	if err != nil {
		return err
	}
	im.signIn()
	actions, check := im.actions()
	if len(actions.Content) == 0 {
		return errors.New("the document has no operation that could become an action")
	}
	if p := at(im.account, "properties"); p != nil {
		set(d, "account", im.account)
	}
	set(d, "base", base)
	set(d, "sign_in", im.ways)
	set(d, "check", check)
	order := []string{}
	each(actions, func(k string, _ *node) { order = append(order, k) })
	set(d, "order", order)
	set(d, "actions", actions)
	for _, part := range []string{"webhooks"} {
		each(at(im.root, part), func(k string, v *node) {
			im.leaveOut("the webhook "+k+placed(v), "what calls us is set up as a trigger by hand")
		})
	}
	return nil
}

var variable = regexp.MustCompile(`\{([^{}]+)\}`)

// base makes the base address of the first server. Its variables become
// parameters of the account.
func (im *importer) base() (string, error) {
	address := ""
	for i, s := range items(at(im.root, "servers")) {
		if u := text(s, "url"); i == 0 {
			address = strings.TrimSuffix(u, "/")
		} else {
			im.leaveOut("the server "+u+placed(s), "only the first one is used; change base for another")
		}
	}
	if servers := items(at(im.root, "servers")); len(servers) > 0 { // a variable may be all of the address
		if m := wholeVariable.FindStringSubmatch(address); m != nil && strings.Contains(text(at(servers[0], "variables"), m[1], "default"), "://") {
			address = strings.TrimSuffix(text(at(servers[0], "variables"), m[1], "default"), "/") + strings.TrimPrefix(address, m[0])
		}
	}
	found := strings.TrimSuffix(im.options.Address, "/")
	if found != "" {
		u, err := url.Parse(found)
		if err != nil || u.Host == "" {
			return "", fmt.Errorf("%q is not an address", found)
		}
		found = u.Scheme + "://" + u.Host
	}
	if !strings.Contains(address, "://") {
		if found == "" {
			im.parameter("address", map[string]any{"type": "string", "title": "Address", "description": "Where the service is reached, as https://host.example."}, true)
			found = "(= account.address )"
		} else {
			im.out.Servers = append(im.out.Servers, found)
		}
		if address != "" && !strings.HasPrefix(address, "/") {
			address = "/" + address
		}
		return found + address, nil
	}
	variables := at(items(at(im.root, "servers"))[0], "variables")
	address = im.settled(address, variables)
	out := variable.ReplaceAllStringFunc(address, func(m string) string {
		name := strings.Trim(m, "{}")
		v := at(variables, name)
		s := map[string]any{"type": "string", "title": strings.ReplaceAll(name, "_", " "), "description": sentenceOf(text(v, "description"), 200)}
		if def := text(v, "default"); def != "" {
			s["examples"] = []any{def}
		}
		if e := at(v, "enum"); e != nil {
			s["enum"] = plain(e)
		}
		field := snake(name)
		im.parameter(field, s, true)
		return "(= account." + field + " )"
	})
	if !strings.HasPrefix(out, "https://") && !strings.HasPrefix(out, "http://") {
		return "", fmt.Errorf("the server %q is not a web address", address)
	}
	if u, err := url.Parse(out); err == nil && !strings.Contains(out, "(=") {
		im.origin = u.Scheme + "://" + u.Host
		if im.servesElsewhere() { // each operation then says its whole path
			im.under = strings.TrimSuffix(u.EscapedPath(), "/")
			out = im.origin
		}
	}
	im.out.Servers = append(im.out.Servers, address)
	return out, nil
}

// settled settles a variable that stands in the place of the scheme: https where the
// document allows it, since a secret goes with the call.
func (im *importer) settled(address string, variables *node) string {
	m := schemeVariable.FindStringSubmatch(address)
	if m == nil {
		return address
	}
	v := at(variables, m[1])
	scheme := text(v, "default")
	var can []string
	for _, e := range items(at(v, "enum")) {
		can = append(can, e.Value)
	}
	if len(can) == 0 || slices.Contains(can, "https") {
		scheme = "https"
	}
	if scheme == "" && len(can) > 0 {
		scheme = can[0]
	}
	return scheme + "://" + strings.TrimPrefix(address, m[0])
}

var (
	schemeVariable = regexp.MustCompile(`^\{([^{}]+)\}://`)
	wholeVariable  = regexp.MustCompile(`^\{([^{}]+)\}`)
)

// servesElsewhere tells whether a path or an operation has servers of its own.
func (im *importer) servesElsewhere() bool {
	some := false
	each(at(im.root, "paths"), func(_ string, p *node) {
		some = some || at(p, "servers") != nil
		each(p, func(_ string, o *node) { some = some || o.Kind == yaml.MappingNode && at(o, "servers") != nil })
	})
	return some
}

// served is what stands before the path of an operation: that of its own server, if it
// has one. One on another host is a connector of its own, since a secret that is entered
// for one host goes to no other.
func (im *importer) served(item, o *node) (string, error) {
	servers := items(at(o, "servers"))
	if len(servers) == 0 {
		servers = items(at(item, "servers"))
	}
	if len(servers) == 0 {
		return im.under, nil
	}
	address := strings.TrimSuffix(text(servers[0], "url"), "/")
	if im.origin == "" {
		return "", fmt.Errorf("it has a server of its own, %s, and the document's is not a fixed one", short(address, 200))
	}
	if strings.Contains(address, "{") {
		return "", fmt.Errorf("it has a server of its own, %s, with variables", short(address, 200))
	}
	base, err := url.Parse(im.origin + im.under + "/")
	if err != nil {
		return "", err
	}
	u, err := base.Parse(address)
	switch {
	case err != nil:
		return "", fmt.Errorf("its own server %q is not an address", short(address, 200))
	case u.Scheme+"://"+u.Host != im.origin:
		return "", fmt.Errorf("it is served at %s, another host than %s; a secret goes to one host only, so that it is to be a connector of its own", u.Scheme+"://"+u.Host, im.origin)
	}
	return strings.TrimSuffix(u.EscapedPath(), "/"), nil
}

// placed is where something stands in the document that was given.
func placed(n *node) string {
	if n == nil || n.Line == 0 {
		return ""
	}
	return fmt.Sprintf(", line %d", n.Line)
}

func (im *importer) parameter(name string, schema map[string]any, required bool) {
	if at(im.account, "properties") == nil {
		set(im.account, "type", "object")
		set(im.account, "required", &node{Kind: yaml.SequenceNode, Tag: "!!seq"})
		set(im.account, "properties", object())
	}
	p := at(im.account, "properties")
	if at(p, name) != nil {
		return
	}
	set(p, name, schema)
	if required {
		k := &node{}
		_ = k.Encode(name)
		r := at(im.account, "required")
		r.Content = append(r.Content, k)
	}
}

// signIn makes a way of each alternative that the document allows.
func (im *importer) signIn() {
	schemes := at(im.root, "components")
	schemes = at(schemes, "securitySchemes")
	var wanted [][]string
	add := func(requirements *node) {
		for _, r := range items(requirements) {
			names := []string{}
			each(r, func(k string, _ *node) { names = append(names, k) })
			im.open = im.open || len(names) == 0
			if len(names) > 0 && !slices.ContainsFunc(wanted, func(w []string) bool { return slices.Equal(w, names) }) {
				wanted = append(wanted, names)
			}
		}
	}
	add(at(im.root, "security"))
	each(at(im.root, "paths"), func(_ string, p *node) {
		each(p, func(_ string, o *node) { add(at(o, "security")) })
	})
	if len(wanted) == 0 {
		each(schemes, func(k string, _ *node) { wanted = append(wanted, []string{k}) })
	}
	called := map[string]bool{}
	for _, names := range wanted {
		way := im.way(schemes, names)
		if way == nil {
			continue
		}
		if m := way["method"].(string); called[m] { // a second of one kind has a name of its own
			way["name"] = im.unique(snake(strings.Join(names, " ")), called)
		} else {
			called[m] = true
		}
		im.ways = append(im.ways, way)
	}
	each(schemes, func(name string, s *node) {
		if !slices.ContainsFunc(wanted, func(w []string) bool { return slices.Contains(w, name) }) {
			im.leaveOut("the sign-in "+name+placed(s), "no operation asks for it")
		}
	})
	if len(im.ways) == 0 || im.open && !called["none"] {
		im.ways = append(im.ways, map[string]any{"method": "none", "title": "Without signing in"})
	}
}

func (im *importer) way(schemes *node, names []string) map[string]any {
	var way map[string]any
	var also []any
	for i, name := range names {
		s, _, err := im.resolve(at(schemes, name))
		if err != nil || s == nil {
			im.leaveOut("the sign-in "+name+placed(at(schemes, name)), "it is not described")
			return nil
		}
		w := im.scheme(name, s)
		if w == nil {
			return nil
		}
		if way == nil {
			way = w
			continue
		}
		if w["method"] != "api_key" {
			im.leaveOut("the sign-in "+strings.Join(names, " with ")+placed(s), "two ways at once, of which the second is no key")
			return nil
		}
		place := map[string]any{"name": fmt.Sprintf("key_%d", i+1), "title": w["secret"]}
		for _, k := range []string{"header", "query"} {
			if w[k] != nil {
				place[k] = w[k]
			}
		}
		also = append(also, place)
	}
	if len(also) > 0 {
		way["also"] = also
	}
	return way
}

func (im *importer) scheme(name string, s *node) map[string]any {
	help := sentenceOf(text(s, "description"), 300)
	w := map[string]any{"title": name}
	if help != "" {
		w["help"] = help
	}
	switch kind := text(s, "type"); kind {
	case "apiKey":
		w["method"], w["secret"] = "api_key", text(s, "name")
		switch text(s, "in") {
		case "header":
			w["header"] = text(s, "name")
		case "query":
			w["query"] = text(s, "name")
		case "cookie":
			w["header"], w["prefix"] = "Cookie", text(s, "name")+"="
		}
	case "http":
		switch scheme := strings.ToLower(text(s, "scheme")); scheme {
		case "basic":
			w["method"] = "basic"
		case "bearer":
			w["method"] = "bearer"
		default:
			im.leaveOut("the sign-in "+name+placed(s), "the scheme "+scheme+" is not known here")
			return nil
		}
	case "oauth2":
		return im.oauth(name, s, w)
	default:
		im.leaveOut("the sign-in "+name+placed(s), "the kind "+kind+" is not known here")
		return nil
	}
	return w
}

func (im *importer) oauth(name string, s *node, w map[string]any) map[string]any {
	flows := at(s, "flows")
	for _, flow := range []struct{ key, grant string }{{"authorizationCode", connector.AuthorizationCode}, {"clientCredentials", connector.ClientCredentials}} {
		f := at(flows, flow.key)
		if f == nil {
			continue
		}
		o := map[string]any{"grant": flow.grant, "token": im.endpoint(text(f, "tokenUrl"))}
		if a := text(f, "authorizationUrl"); a != "" {
			o["authorize"] = im.endpoint(a)
		}
		scopes := []any{}
		each(at(f, "scopes"), func(k string, v *node) {
			title := sentenceOf(v.Value, 120)
			if title == "" {
				title = k
			}
			scopes = append(scopes, map[string]any{"name": k, "title": title})
		})
		if len(scopes) > 0 {
			o["scopes"] = scopes
		}
		im.out.TokenServers = append(im.out.TokenServers, o["token"].(string))
		w["method"], w["oauth"] = "oauth2", o
		return w
	}
	im.leaveOut("the sign-in "+name+placed(s), "of its flows none is by code or client credentials")
	return nil
}

// endpoint resolves an address of the authorization server.
func (im *importer) endpoint(s string) string {
	if strings.Contains(s, "://") {
		return s
	}
	base := strings.TrimSuffix(im.options.Address, "/")
	if u, err := url.Parse(base); base != "" && err == nil {
		base = u.Scheme + "://" + u.Host
	} else if im.origin != "" {
		base = im.origin
	} else {
		im.parameter("address", map[string]any{"type": "string", "title": "Address", "description": "Where the service is reached, as https://host.example."}, true)
		base = "(= account.address )"
	}
	return base + "/" + strings.TrimPrefix(s, "/")
}
