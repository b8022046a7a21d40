package store

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
)

// AnswerAt is how long the address of an answer is good.
const AnswerAt = 7 * 24 * time.Hour

// answerKept is how long an answer is kept at least: as long as the id of a delivery is
// remembered, whose repeats get the same.
const answerKept = 30 * 24 * time.Hour

// answers puts down what is answered, where no answer stands.
type answers struct {
	workspace, run uuid.UUID
	engine.Answers
}

func (a answers) statement(first int) (string, []any) {
	return fmt.Sprintf(`INSERT INTO answer (workspace_id, run_id, reply, pass, step, rounds, address, expires) SELECT $%d, $%d, $%d, $%d, $%d, $%d, $%d, now() + make_interval(secs => $%d) WHERE EXISTS (SELECT FROM e)
			ON CONFLICT (workspace_id, run_id) DO UPDATE SET reply = EXCLUDED.reply, pass = EXCLUDED.pass, step = EXCLUDED.step, rounds = EXCLUDED.rounds, address = EXCLUDED.address, expires = greatest(answer.expires, EXCLUDED.expires)
			WHERE answer.reply IS NULL`, first, first+1, first+2, first+3, first+4, first+5, first+6, first+7),
		[]any{a.workspace, a.run, pack(a.Reply), int32(a.Pass), int32(a.Step), []byte(a.Rounds), []byte(a.Address), max(answerKept, a.Lasts).Seconds()}
}

// Answered is what is known of a run's answer.
type Answered struct {
	Workspace, Run uuid.UUID
	Reply          []byte // nil: there is none yet
	Key            engine.Key
	State          engine.State // of the run; "" where nothing is known of it any more
	Message        string       // why it ended so
	InLine         bool         // it waits for others of its workflow to end
}

const answeredSQL = `SELECT u.workspace_id, u.run_id, a.reply, coalesce(a.pass, 0), coalesce(a.step, 0), coalesce(a.rounds, ''), coalesce(a.address, ''), coalesce(l.state, r.state, ''), coalesce(r.message, ''), coalesce(l.reason IN ('lane', 'place'), false)
	FROM unnest($1::uuid[], $2::uuid[]) AS u(workspace_id, run_id)
	LEFT JOIN LATERAL (SELECT * FROM answer WHERE workspace_id = u.workspace_id AND run_id = u.run_id LIMIT 1) a ON true
	LEFT JOIN LATERAL (SELECT state, reason FROM live WHERE workspace_id = u.workspace_id AND run_id = u.run_id LIMIT 1) l ON true
	LEFT JOIN LATERAL (SELECT state, message FROM run WHERE workspace_id = u.workspace_id AND run_id = u.run_id LIMIT 1) r ON l.state IS NULL`

func scanAnswered(row pgx.CollectableRow) (Answered, error) {
	var a Answered
	var reply, rounds, address []byte
	var step int
	err := row.Scan(&a.Workspace, &a.Run, &reply, &a.Key.Pass, &step, &rounds, &address, &a.State, &a.Message, &a.InLine)
	if err != nil {
		return a, err
	}
	a.Key.Step, a.Key.Rounds, a.Key.Address = uint16(step), item.Rounds(rounds), item.Address(address)
	a.Reply, err = unpack(reply)
	return a, err
}

// Answers finds what is known of the answers of runs, as a node sees them.
func (s *Store) Answers(ctx context.Context, workspaces, runs []uuid.UUID) ([]Answered, error) {
	rows, err := s.node.Query(ctx, answeredSQL, workspaces, runs)
	if err != nil {
		return nil, unavailable(err)
	}
	out, err := pgx.CollectRows(rows, scanAnswered)
	return out, unavailable(err)
}

// Answer finds what is known of the answer of a run of the scope's workspace.
func (s *Store) Answer(ctx context.Context, sc Scope, run uuid.UUID) (a Answered, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, answeredSQL, []uuid.UUID{sc.Workspace()}, []uuid.UUID{run})
		if err != nil {
			return err
		}
		a, err = pgx.CollectExactlyOneRow(rows, scanAnswered)
		return err
	})
	return a, err
}

// PlaceAnswer lets the answer of a run be found by a token, for a time.
func (s *Store) PlaceAnswer(ctx context.Context, p Placed, token string) error {
	_, err := s.node.Exec(ctx, `INSERT INTO answer (workspace_id, run_id, workflow_id, hash, placed, expires) VALUES ($1, $2, $3, $4, now(), now() + make_interval(secs => $5))
		ON CONFLICT (workspace_id, run_id) DO UPDATE SET workflow_id = EXCLUDED.workflow_id, hash = EXCLUDED.hash, placed = coalesce(answer.placed, EXCLUDED.placed)`, p.Workspace, p.Run, p.Workflow, hashOf(token), answerKept.Seconds())
	return unavailable(err)
}

// Placed is a run whose answer has an address.
type Placed struct {
	Workspace, Workflow, Run uuid.UUID
	Hook                     string // address of the workflow; "" where it is gone
}

// AnswerPlaced finds the run whose answer a token stands for.
func (s *Store) AnswerPlaced(ctx context.Context, token string) (p Placed, err error) {
	err = s.node.QueryRow(ctx, `SELECT a.workspace_id, a.workflow_id, a.run_id, coalesce(w.hook, '') FROM answer a
		LEFT JOIN LATERAL (SELECT hook FROM workflow WHERE workspace_id = a.workspace_id AND id = a.workflow_id LIMIT 1) w ON true
		WHERE a.hash = $1 AND a.placed > now() - make_interval(secs => $2)`, hashOf(token), AnswerAt.Seconds()).Scan(&p.Workspace, &p.Workflow, &p.Run, &p.Hook)
	return p, translate(err)
}
