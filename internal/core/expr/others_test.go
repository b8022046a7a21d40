package expr

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/require"
)

// memory remembers decisions, as the journal of a run does.
type memory struct {
	known map[string]Decision
	asked int
	err   error
}

func (m *memory) Recall(source string) (Decision, bool, error) {
	m.asked++
	d, ok := m.known[source]
	return d, ok, m.err
}

func (m *memory) Record(source string, d Decision) { m.known[source] = d }

// What others have a part in is remembered, and nothing else is.
func TestWhatOthersDecideIsRemembered(t *testing.T) {
	scope := func(m *memory) *Scope {
		return &Scope{Others: m, Item: map[string]any{"plain": "Ash bowl, ü", "family": "👨‍👩‍👧 at the kiln", "n": int64(3), "list": []any{int64(1)}, "page": "<p>Ash</p>"}}
	}
	for source, by := range map[string]bool{
		`len(item.plain)`:                                         false,
		`len(item.family)`:                                        true,
		`len(item.list)`:                                          false,
		`left(item.plain, 3)`:                                     false,
		`left(item.family, 3)`:                                    true,
		`item.plain[1]`:                                           false,
		`item.family[0]`:                                          true,
		`item.list[0]`:                                            false,
		`item.family[0:1]`:                                        true,
		`item.n > 2 and len(item.plain) > 2`:                      false,
		`item.n > 2 or len(item.family) > 2`:                      false, // it does not come to it
		`slug(item.plain)`:                                        true,
		`slug("Ash bowl")`:                                        false,
		`html_text(item.page)`:                                    true,
		`markdown(item.page)`:                                     true,
		`phone("01632 960142", "GB")`:                             true,
		`tokens(item.plain)`:                                      true,
		`money(3, "EUR", "de")`:                                   true,
		`format_number(3.5, 2, ",")`:                              false,
		`format_number(3.5, 2, "de")`:                             true,
		`number("1,5", ",")`:                                      false,
		`number("1,5", "de")`:                                     true,
		`add("2026-03-28T12:00", 1, "day")`:                       false,
		`add("2026-03-28T12:00+01:00", 1, "day")`:                 false,
		`add("2026-03-28T12:00", 1, "day", "+01:00")`:             false,
		`add("2026-03-28T12:00", 1, "day", "Europe/Lisbon")`:      true,
		`format("2026-03-28T12:00Z", "d MMM")`:                    false,
		`format("2026-03-28T12:00Z", "d MMM", "UTC", "de")`:       true,
		`parse_date("28.3.2026", "d.M.yyyy")`:                     false,
		`parse_date("28.3.2026 Europe/Lisbon", "d.M.yyyy VV")`:    true,
		`workday_add("2026-03-27", 1)`:                            false,
		`workday_add("2026-03-27", 1, {"zone": "Europe/Lisbon"})`: true,
		`map([1], len(item.family))`:                              true,
		`item.family | left(1) | upper()`:                         true,
	} {
		m := &memory{known: map[string]Decision{}}
		p := MustCompile(source, roots)
		v, err := p.Eval(scope(m))
		require.NoError(t, err, source)
		_, kept := m.known[source]
		require.Equal(t, by, kept, source)
		if !by {
			require.Zero(t, m.asked, source)
			continue
		}
		require.Equal(t, Decision{Value: v}, m.known[source], source)

		// From now on it gives what is remembered, whatever the library says.
		m.known[source] = Decision{Value: "as it was"}
		v, err = p.Eval(scope(m))
		require.NoError(t, err, source)
		require.Equal(t, "as it was", v, source)
		require.Equal(t, Decision{Value: "as it was"}, m.known[source], source)
	}
}

func TestErrorsOfOthersAreRememberedToo(t *testing.T) {
	m := &memory{known: map[string]Decision{}}
	p := MustCompile(`phone("12", "GB") + "!"`, roots)
	_, err := p.Eval(&Scope{Others: m})
	var wrong *Error
	require.ErrorAs(t, err, &wrong)
	require.Equal(t, Decision{Wrong: wrong}, m.known[p.Source])
	_, again := p.Eval(&Scope{Others: m})
	require.Equal(t, err, again)

	m.known[p.Source] = Decision{Value: "+4412!"}
	v, err := p.Eval(&Scope{Others: m})
	require.NoError(t, err)
	require.Equal(t, "+4412!", v)
}

func TestConditionsRecallWhatTheyGave(t *testing.T) {
	m := &memory{known: map[string]Decision{}}
	p := MustCompile(`len("é́") == 1`, roots)
	holds, err := p.Holds(&Scope{Others: m})
	require.NoError(t, err)
	require.True(t, holds)
	m.known[p.Source] = Decision{Value: false}
	holds, err = p.Holds(&Scope{Others: m})
	require.NoError(t, err)
	require.False(t, holds)
	require.NotEmpty(t, p.Why(&Scope{Others: m}))
}

// Where it cannot be found out what was decided, nothing is decided anew.
func TestAMemoryThatDoesNotAnswerEndsTheEvaluation(t *testing.T) {
	away := errors.New("the journal cannot be read")
	m := &memory{known: map[string]Decision{}, err: away}
	_, err := MustCompile(`len("👨‍👩‍👧") ?? 3`, roots).Eval(&Scope{Others: m})
	require.ErrorIs(t, err, away)
	require.Empty(t, m.known)
}
