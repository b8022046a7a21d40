package workflows

import (
	"context"
	"errors"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/store"
)

// shelf holds one revision.
type shelf struct {
	store.Revision
	read int
	err  error
}

type revisions struct{ *shelf }

func (r revisions) Revision(context.Context, uuid.UUID, uuid.UUID, int) (store.Revision, error) {
	r.read++
	return r.shelf.Revision, r.err
}

type documents struct{}

func (documents) At(context.Context, uuid.UUID, map[string]int) (map[string]*connector.Connector, error) {
	return nil, nil
}

const shaped = `format: young-trellis/1
name: firing
trigger: {type: manual}
steps:
  - {name: cone, type: shape, settings: {set: {n: "(= item.n + 1 )"}}}
`

func TestAPlanIsCompiledOnceAndHasTheNumbersOfItsRevision(t *testing.T) {
	t.Parallel()
	s := &shelf{Revision: store.Revision{Document: shaped, Numbers: map[string]uint16{"cone": 7}, Library: expr.Library}}
	p := &Plans{Revisions: revisions{s}, Documents: documents{}}
	id := uuid.New()
	for range 2 {
		plan, err := p.Plan(context.Background(), id, id, 3)
		require.NoError(t, err)
		require.Equal(t, uint16(7), plan.Step("cone").Number)
	}
	require.Equal(t, 1, s.read)
}

func TestAPlanThatCannotBeMadeIsNotKept(t *testing.T) {
	t.Parallel()
	away := errors.New("the database is away")
	s := &shelf{Revision: store.Revision{Document: shaped, Numbers: map[string]uint16{"cone": 7}, Library: expr.Library}, err: away}
	p := &Plans{Revisions: revisions{s}, Documents: documents{}}
	id := uuid.New()
	_, err := p.Plan(context.Background(), id, id, 3)
	require.ErrorIs(t, err, away)

	s.err, s.Library = nil, expr.Library+1
	_, err = p.Plan(context.Background(), id, id, 3)
	require.ErrorContains(t, err, "a newer version carries it out")

	s.Library, s.Document = expr.Library, "steps: {"
	_, err = p.Plan(context.Background(), id, id, 3)
	require.EqualError(t, err, "revision 3 cannot be read any more")

	s.Document = shaped
	_, err = p.Plan(context.Background(), id, id, 3)
	require.NoError(t, err)
}
