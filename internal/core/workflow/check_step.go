package workflow

import (
	"cmp"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/near"
	"youngtrellis/internal/core/steps"
	"youngtrellis/internal/core/words"
)

func (c *checker) step(l Line, seen map[string]string) {
	s, path := l.Step, l.Step.path
	if s.Name != "" && !stepName.MatchString(s.Name) {
		c.add(document.SeverityError, path+".name", fmt.Sprintf("%q cannot be the name of a step.", s.Name), "Use small letters, digits and _, and begin with a letter.")
	}
	if other, ok := seen[s.Name]; ok && s.Name != "" {
		c.errorf(path+".name", "Step %s is called %q already.", other, s.Name)
	}
	seen[s.Name] = l.Number
	c.words(path, s)
	if k, ok := steps.Find(s.Type); ok {
		c.kind(path, s, k)
	} else if s.Type != "" {
		c.action(path, s)
	}
	c.secrets(path+".settings", withoutSteps(s.Settings))
	c.secrets(path+".input", s.Input)
	c.secrets(path+".note", s.Note)
}

func (c *checker) words(path string, s *Step) {
	oneOf := func(key, value string, allowed ...string) {
		if value != "" && !slices.Contains(allowed, value) {
			c.add(document.SeverityError, path+"."+key, fmt.Sprintf("%s is %q.", key, value), "It can be "+strings.Join(allowed, ", ")+"."+near.Hint(value, allowed))
		}
	}
	oneOf("on_error", s.OnError, OnErrorStop, OnErrorSetAside, OnErrorContinue, OnErrorFallback)
	switch {
	case s.OnError == OnErrorFallback && len(s.Fallback) == 0:
		c.add(document.SeverityError, path+".on_error", fmt.Sprintf("%s has no steps that an item takes when it fails.", quoted(s.Name)), "Add a first one under fallback.")
	case s.Fallback != nil && s.OnError != OnErrorFallback:
		c.add(document.SeverityWarning, path+".fallback", "No item comes here: on_error is "+cmp.Or(s.OnError, OnErrorStop)+".", "Say on_error: fallback.")
	}
	oneOf("when_none", s.WhenNone, WhenNoneEnd, WhenNonePass, WhenNoneFail)
	oneOf("repeat", s.Repeat, call.Safe, call.Keyed, call.Unsafe)
	oneOf("when_unknown", s.WhenUnknown, UnknownAsk, UnknownResend, UnknownDone)
	oneOf("late", s.Late, LateLeave, LateAlone, LateAgain)
	if s.Output != "" && !outputForm.MatchString(s.Output) {
		c.add(document.SeverityError, path+".output", fmt.Sprintf("output is %q.", s.Output), "It can be replace, keep, or under and a name, as in under slot.")
	}
	if s.Parallel < 0 || s.Parallel > MaxParallel {
		c.errorf(path+".parallel", "parallel is %d; it lies between 1 and %d.", s.Parallel, MaxParallel)
	}
	for _, key := range []string{"attempts", "factor"} {
		if n := c.doc.At(path + ".retry." + key); n != nil && n.Value == "0" {
			c.errorf(path+".retry."+key, "%s is 0; it is at least 1.", key)
		}
	}
	if _, err := s.Patience(); err != nil {
		c.errorf(path+".retry", "%s", words.Sentence(err.Error()))
	}
	if _, err := s.Deadline(); err != nil {
		c.errorf(path+".timeout", "%s", words.Sentence(err.Error()))
	}
}

func (c *checker) kind(path string, s *Step, k *steps.Kind) {
	if s.Input != nil {
		c.add(document.SeverityError, path+".input", "input belongs to actions.", "What a "+s.Type+" step does stands under settings.")
	}
	switch {
	case s.Connection != "" && !k.Connects:
		c.errorf(path+".connection", "A %s step calls nobody and takes no connection.", s.Type)
	case s.Connection != "":
		c.connection(path, s, k.Needs, k.Title)
	case k.Needs != "":
		c.gap(path+".connection", fmt.Sprintf("%s needs a connection to a database.", quoted(s.Name)), "Name one under connection.")
	}
	compiled, errs := k.Compile(s.Settings)
	for _, err := range errs {
		c.setting(path+".settings", err)
	}
	if compiled != nil {
		c.ways(path, s, compiled.Operator)
	}
	for _, b := range s.Blocks {
		if len(b.Steps) == 0 && b.Name == "" {
			c.add(document.SeverityWarning, path, quoted(s.Name)+" has no steps in it yet.", "Add a first one.")
		}
	}
}

// ways checks the keys of a step that belong to some kinds only.
func (c *checker) ways(path string, s *Step, op steps.Operator) {
	refuse := func(key, value, message, cure string) {
		if value != "" {
			c.add(document.SeverityError, path+"."+key, message, cure)
		}
	}
	_, calls := op.(*steps.Call)
	_, spreads := op.(steps.Spreads)
	_, holds := op.(steps.Holder)
	_, picks := op.(steps.Picker)
	_, loops := op.(steps.Loop)
	_, ends := op.(steps.Ender)
	if !holds && !picks {
		refuse("late", s.Late, "late belongs to steps that take in a whole list.", "Leave it out.")
	}
	if picks && s.Late == LateAgain {
		refuse("late", s.Late, "The items of a "+s.Type+" step go on as those that they were, so its list cannot be made again for what comes late.", "Say leave or alone, or gather the items first.")
	}
	if s.OnError == OnErrorContinue || s.OnError == OnErrorFallback {
		switch {
		case holds, picks, loops:
			refuse("on_error", s.OnError, fmt.Sprintf("A %s step works on many items at once, so none of them can go on by itself when it fails.", s.Type), "Say stop or set_aside, and put a fallback on the steps before or within it.")
		case ends:
			refuse("on_error", s.OnError, "A stop step ends the run; there is nothing to go on with.", "Leave it out.")
		}
	}
	if !calls {
		refuse("output", s.Output, "output belongs to steps that are given something from outside.", "Leave it out.")
	}
	switch {
	case holds:
		if s.WhenNone == WhenNonePass {
			refuse("when_none", s.WhenNone, "Where no item came to a list, none can go on.", "Say end or fail, or leave it out.")
		}
	case !calls && !spreads:
		refuse("when_none", s.WhenNone, "when_none belongs to steps that can give no items for one, or make one of many.", "Leave it out.")
	}
}

func (c *checker) action(path string, s *Step) {
	con, _, ok := s.IsAction()
	if !ok {
		c.add(document.SeverityError, path+".type", fmt.Sprintf("There is no step kind %q.", s.Type), strings.TrimSpace(near.Hint(s.Type, c.catalog.Types())))
		return
	}
	a, err := c.catalog.Action(s)
	if err != nil {
		c.errorf(path+".type", "%s", words.Sentence(err.Error()))
		return
	}
	if s.Settings != nil {
		c.add(document.SeverityError, path+".settings", "settings belong to built-in step kinds.", "What an action is given stands under input.")
	}
	if s.Connection == "" {
		c.gap(path+".connection", fmt.Sprintf("%s needs a connection to %s.", quoted(s.Name), a.Connector().Title), "Name one under connection.")
	} else {
		c.connection(path, s, con, a.Connector().Title)
		c.scopes(path, s, a)
	}
	if _, err := expr.CompileValue(anyMap(s.Input), steps.Reads); err != nil {
		c.fault(path+".input", err)
		return
	}
	c.constants(path, s, a)
}

func anyMap(m map[string]any) any { return nonNil(m) }

// scopes warns of an action that the account has not granted.
func (c *checker) scopes(path string, s *Step, a *connector.Action) {
	for _, k := range c.catalog.Connections {
		if k.Name != s.Connection || len(k.Scopes) == 0 {
			continue
		}
		for _, scope := range a.Scopes {
			if !slices.Contains(k.Scopes, scope) {
				c.add(document.SeverityError, path+".connection", fmt.Sprintf("%q needs the scope %s, which the connection %q was not granted.", a.Title, scope, k.Name), "Sign in again under Connections and choose it.")
			}
		}
	}
}

// connection checks that the one a step names is there, fits and may be used.
// An empty con fits any.
func (c *checker) connection(path string, s *Step, con, title string) {
	var fitting []string
	for _, k := range c.catalog.Connections {
		if k.Name == s.Connection {
			switch {
			case con != "" && k.Connector != con:
				c.errorf(path+".connection", "The connection %q is to %s, and this step needs %s.", k.Name, k.Connector, con)
			case !k.may(s):
				c.add(document.SeverityError, path+".connection", fmt.Sprintf("You may not use the connection %q for this.", k.Name), "Ask an administrator to grant it to you under Connections.")
			case k.State == "broken":
				c.add(document.SeverityWarning, path+".connection", fmt.Sprintf("The connection %q does not work at the moment.", k.Name), "Check it under Connections.")
			}
			return
		}
		if con == "" || k.Connector == con {
			fitting = append(fitting, k.Name)
		}
	}
	cure := fmt.Sprintf("Add a connection to %s first.", title)
	if len(fitting) > 0 {
		cure = "There are: " + strings.Join(fitting, ", ") + "."
	}
	c.add(document.SeverityError, path+".connection", fmt.Sprintf("There is no connection %q.", s.Connection), cure)
}

func quoted(name string) string { return "The step " + name }

// constants checks what can be known of an input before any item is there:
// unknown fields, missing ones, and values without an expression.
func (c *checker) constants(path string, s *Step, a *connector.Action) {
	known := make([]string, len(a.Properties))
	for i, p := range a.Properties {
		known[i] = p.Name
	}
	fixed := map[string]any{}
	for name, v := range s.Input {
		if !slices.Contains(known, name) {
			c.add(document.SeverityError, path+".input."+name, fmt.Sprintf("%q is not a field of %s.", name, a.Title), strings.TrimSpace(near.Hint(name, known)))
			continue
		}
		if !hasTemplate(v) {
			fixed[name] = v
		}
	}
	for _, p := range a.Properties {
		v, given := s.Input[p.Name]
		if p.Required && (!given || v == nil || v == "") {
			title, _ := p.Schema["title"].(string)
			c.gap(path+".input."+p.Name, fmt.Sprintf("%s of %q is to be filled in.", title, s.Name), "")
			delete(fixed, p.Name)
			continue
		}
		if text, ok := v.(string); ok && p.Schema["choices"] != nil && !expr.IsTemplate(text) && nameLike(text) {
			c.add(document.SeverityWarning, path+".input."+p.Name, fmt.Sprintf("%s takes an id, and “%s” looks like a name.", p.Name, text), "Pick it from the list; then both are kept.")
		}
	}
	err := a.Validate(a.Picked(fixed))
	var ie *form.InputError
	if errors.As(err, &ie) {
		for _, f := range ie.Fields {
			top, _, _ := strings.Cut(f.Field, ".")
			top, _, _ = strings.Cut(top, "[")
			if _, ok := fixed[top]; ok {
				c.errorf(path+".input."+f.Field, "%s", words.Sentence(f.Message))
			}
		}
	}
}

// nameLike tells whether an id is rather the name of something: words, without a
// digit.
func nameLike(s string) bool {
	r, _ := utf8.DecodeRuneInString(s)
	return strings.Contains(strings.TrimSpace(s), " ") || unicode.IsUpper(r) && !strings.ContainsAny(s, "0123456789_-:/")
}

func hasTemplate(v any) bool {
	switch v := v.(type) {
	case string:
		return expr.IsTemplate(v)
	case []any:
		return slices.ContainsFunc(v, hasTemplate)
	case map[string]any:
		for _, e := range v {
			if hasTemplate(e) {
				return true
			}
		}
	}
	return false
}

var (
	keyLike   = regexp.MustCompile(`(?i)^(bearer |basic )?[a-z0-9+/_=-]{28,}$`)
	tokenLike = regexp.MustCompile(`\beyJ[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]{8,}\b`) // RFC 7519
	schemed   = regexp.MustCompile(`(?i)\b(bearer|basic) [a-z0-9+/_=.-]{12,}`)
	keyNamed  = regexp.MustCompile(`(?i)(^|[_-])(password|passwd|pwd|secret|token|api_?key|apikey|access_?key|private_?key|client_?secret|authorization|x-api-key)$`)
	saidKey   = regexp.MustCompile(`(?i)\b(password|passwd|secret|api[_-]?key|access[_-]?token|client[_-]?secret)\s*[:=]\s*["']?[^\s"'(]{4,}`)
	inAddress = regexp.MustCompile(`(?i)[?&](token|key|api_?key|access_token|secret|password|sig|signature)=[^&(\s]{6,}`)
)

// secretLike tells whether a text looks like a key, or holds one.
func secretLike(name, v string) bool {
	lower := strings.ToLower(v)
	switch {
	case keyLike.MatchString(v) && strings.ContainsAny(v, "0123456789") && strings.ContainsAny(lower, "abcdefghijklmnopqrstuvwxyz"),
		tokenLike.MatchString(v), inAddress.MatchString(v):
		return true
	case expr.IsTemplate(v):
		return false
	}
	return schemed.MatchString(v) || saidKey.MatchString(v) || keyNamed.MatchString(name) && len(strings.TrimSpace(v)) >= 4
}

// secrets warns of text that looks like a key: it belongs into a connection.
func (c *checker) secrets(path string, v any) {
	switch v := v.(type) {
	case string:
		if secretLike(path[strings.LastIndexByte(path, '.')+1:], v) {
			c.add(document.SeverityWarning, path, "This looks like a key. Everybody who can read the workflow can read it here.", "Put it into a connection.")
		}
	case []any:
		for i, e := range v {
			c.secrets(fmt.Sprintf("%s[%d]", path, i), e)
		}
	case map[string]any:
		if v["id"] != nil && v["name"] != nil && len(v) == 2 { // a choice, whose id may be long
			return
		}
		for k, e := range v {
			c.secrets(path+"."+k, e)
		}
	}
}
