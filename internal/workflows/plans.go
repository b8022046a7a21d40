// Package workflows keeps what the workflows of a workspace are: compiled
// revisions, with the connector versions that they were made with.
package workflows

import (
	"context"
	"fmt"
	"sync"

	"github.com/google/uuid"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
)

// Revisions finds frozen documents.
type Revisions interface {
	Revision(ctx context.Context, workspace, workflow uuid.UUID, number int) (store.Revision, error)
}

// Documents finds connectors as a revision was made with them.
type Documents interface {
	At(ctx context.Context, workspace uuid.UUID, versions map[string]int) (map[string]*connector.Connector, error)
}

// Plans compiles revisions and keeps them compiled; they never change. It is
// safe for concurrent use.
type Plans struct {
	Revisions Revisions
	Documents Documents

	mu   sync.Mutex // protects the following field
	kept map[planKey]*workflow.Plan
}

type planKey struct {
	workspace, workflow uuid.UUID
	revision            int
}

// mostPlans is how many compiled revisions are kept.
const mostPlans = 1000

// Plan compiles a revision, or finds it compiled.
func (p *Plans) Plan(ctx context.Context, workspace, wf uuid.UUID, revision int) (*workflow.Plan, error) {
	k := planKey{workspace, wf, revision}
	p.mu.Lock()
	plan, ok := p.kept[k]
	p.mu.Unlock()
	if ok {
		return plan, nil
	}
	plan, err := p.compile(ctx, k)
	if err != nil {
		return nil, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.kept == nil || len(p.kept) >= mostPlans {
		p.kept = map[planKey]*workflow.Plan{}
	}
	p.kept[k] = plan
	return plan, nil
}

func (p *Plans) compile(ctx context.Context, k planKey) (*workflow.Plan, error) {
	r, err := p.Revisions.Revision(ctx, k.workspace, k.workflow, k.revision)
	if err != nil {
		return nil, err
	}
	if r.Library > expr.Library {
		return nil, fmt.Errorf("revision %d was made with functions that this version of the service does not know (library %d; it knows up to %d): a newer version carries it out", k.revision, r.Library, expr.Library)
	}
	w, _, problems := workflow.Read([]byte(r.Document))
	if w == nil || workflow.HasErrors(problems) {
		return nil, fmt.Errorf("revision %d cannot be read any more", k.revision)
	}
	cons, err := p.Documents.At(ctx, k.workspace, r.Connectors)
	if err != nil {
		return nil, err
	}
	plan, err := workflow.Compile(w, &workflow.Catalog{Connectors: cons})
	if err != nil {
		return nil, err
	}
	return plan.Numbered(r.Numbers)
}
