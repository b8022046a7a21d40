package connections

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/near"
	"youngtrellis/internal/core/words"
)

// Wrong is something that a caller asked for and that cannot be, in words.
type Wrong struct {
	Status  int
	Message string
}

func (w *Wrong) Error() string { return w.Message }

// Choices loads a choice list of a connector for a picker. Where it is empty,
// why says so in words.
func (s *Service) Choices(ctx context.Context, workspace uuid.UUID, name, list string, input map[string]any, search string) (options []connector.Option, why string, err error) {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	o, err := s.open(ctx, workspace, name)
	if err != nil {
		return nil, "", err
	}
	ch, ok := o.connector.Choices[list]
	if !ok {
		lists := item.Keys(o.connector.Choices)
		cure := near.Hint(list, lists)
		switch {
		case len(lists) == 0:
			cure = " It has none."
		case cure == "":
			cure = " There are " + strings.Join(lists, ", ") + "."
		}
		return nil, "", &Wrong{http.StatusNotFound, fmt.Sprintf("%s has no list %q.%s", o.Title, list, cure)}
	}
	for _, need := range ch.Needs {
		if input[need] == nil || input[need] == "" {
			return nil, fmt.Sprintf("Choose the %s first.", strings.ReplaceAll(need, "_", " ")), nil
		}
	}
	if id, found := ch.FromAddress(search); found {
		return []connector.Option{{ID: id, Name: id + ", from the address"}}, "", nil
	}
	options = []connector.Option{}
	cursor := any(nil)
	for range 20 {
		request, err := o.connector.BuildChoice(list, o.parameters, input, search, cursor)
		if err != nil {
			return nil, "", &Wrong{http.StatusUnprocessableEntity, words.Sentence(err.Error())}
		}
		answer, _, err := s.call(ctx, o, uuid.Nil, request, "")
		if err != nil {
			return nil, "", err
		}
		page, next, err := o.connector.ReadChoice(list, answer, cursor)
		var refusal *connector.Refusal
		if errors.As(err, &refusal) {
			if refusal.Status == http.StatusForbidden {
				if ch.Refused != "" {
					return nil, ch.Refused, nil
				}
				return nil, fmt.Sprintf("This account may not read that list: %s", o.Hide(refusal.Error())), nil
			}
			return nil, fmt.Sprintf("%s refused: %s", o.Title, o.Hide(refusal.Error())), nil
		}
		if err != nil {
			return nil, "", err
		}
		for _, p := range page { // what may be echoed is masked, as on every surface
			options = append(options, connector.Option{ID: o.Secrets().MaskValue(item.Storable(p.ID)), Name: o.Hide(item.StorableText(p.Name))})
		}
		if cursor = next; next == nil || len(options) >= 2000 {
			break
		}
	}
	switch {
	case len(options) > 0:
		return options, "", nil
	case search != "" && ch.Search != "":
		return options, fmt.Sprintf("Nothing there is called %q.", search), nil
	case ch.Empty != "":
		return options, ch.Empty, nil
	}
	return options, fmt.Sprintf("There is nothing yet in %s.", o.Title), nil
}
