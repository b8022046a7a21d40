package store

import (
	"context"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// Line is where a run stands in line: in a lane, and among those that take a place of
// their workflow's parallel_runs. The database keeps the lines, in every transaction
// that begins, parks or ends a run (line_up, take_place and move_up).
type Line struct {
	Lane    string // the key of its lane; "" for none
	Limited bool   // its workflow has parallel_runs
}

// Stands tells whether the run stands in any line.
func (l Line) Stands() bool { return l.Lane != "" || l.Limited }

// held are all the lines that a transaction changes.
type held struct {
	workspaces, workflows [][16]byte
	lanes                 []string
}

func (l *held) add(workspace, workflow uuid.UUID, line Line) {
	if line.Lane != "" {
		l.workspaces, l.workflows, l.lanes = append(l.workspaces, workspace), append(l.workflows, workflow), append(l.lanes, line.Lane)
	}
	if line.Limited {
		l.workspaces, l.workflows, l.lanes = append(l.workspaces, workspace), append(l.workflows, workflow), append(l.lanes, "")
	}
}

// hold lets nobody else change these lines until the transaction ends. It comes
// before anything else is locked that others may hold, in one order for all: so no
// two of them wait for one another.
func (l *held) hold(q *pgx.Batch) {
	if len(l.lanes) > 0 {
		q.Queue("SELECT hold_lines($1, $2, $3)", l.workspaces, l.workflows, l.lanes)
	}
}

// lines are those that a batch changes.
func (b *batch) lines() *held {
	l := &held{}
	for _, s := range b.starts {
		l.add(s.Workspace, s.Workflow, s.Line)
	}
	for _, e := range b.ends {
		l.add(e.Workspace, e.Workflow, e.Line)
	}
	return l
}

// Queued counts a workspace's runs that wait for their turn, up to most: those that no
// node has taken on, and those in line.
func (s *Store) Queued(ctx context.Context, workspace uuid.UUID, most int) (n int, err error) {
	err = s.node.QueryRow(ctx, `SELECT count(*) FROM (SELECT FROM live WHERE workspace_id = $1 AND state = 'queued'
		UNION ALL SELECT FROM live WHERE workspace_id = $1 AND state = 'waiting' AND reason IN ('lane', 'place') LIMIT $2) x`, workspace, most).Scan(&n)
	return n, unavailable(err)
}
