package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"youngtrellis/internal/core/item"
)

// Aside is an item that waits for a person: set aside, or perhaps sent.
type Aside struct {
	Run      uuid.UUID
	Workflow uuid.UUID
	Address  item.Address
	Step     uint16 // lasting number
	StepName string
	Rounds   item.Rounds
	Kind     string // set_aside or may_have_been_sent
	Label    string
	Why      string
	Alike    string // why, without what differs from item to item
	Fresh    bool   // it came to this in the pass that writes it
	Since    time.Time
	Pass     int
	Live     bool // its run is in a further pass at the moment
}

// AsideKept is how long such items are kept.
const AsideKept = 90 * 24 * time.Hour

// queueAside writes the rows of items that wait for a person.
func (p pages) queueAside(q *pgx.Batch) {
	type key struct {
		run     uuid.UUID
		address item.Address
	}
	type row struct {
		page *LatticePage
		Aside
	}
	var keys []key
	rows := map[key]row{}
	for _, x := range p {
		for _, a := range x.Aside {
			k := key{x.Run, a.Address}
			if _, ok := rows[k]; !ok {
				keys = append(keys, k)
			}
			rows[k] = row{x, a}
		}
	}
	if len(keys) == 0 {
		return
	}
	var (
		workspace, run, workflow      [][16]byte
		address, rounds               [][]byte
		step, pass, claim             []int32
		name, kind, label, why, alike []string
		fresh                         []bool
	)
	for _, k := range keys {
		r := rows[k]
		workspace, run, workflow = append(workspace, r.page.Workspace), append(run, r.page.Run), append(workflow, r.page.Workflow)
		address, rounds, step = append(address, []byte(r.Address)), append(rounds, []byte(r.Aside.Rounds)), append(step, int32(r.Step))
		pass, claim = append(pass, int32(r.page.Pass)), append(claim, int32(r.page.Claim))
		name, kind, label, why, alike, fresh = append(name, r.StepName), append(kind, r.Kind), append(label, r.Label), append(why, r.Why), append(alike, r.Alike), append(fresh, r.Fresh)
	}
	q.Queue(`INSERT INTO aside AS a (workspace_id, run_id, workflow_id, address, step, step_name, rounds, kind, label, why, alike, since, pass, claim)
		SELECT r.workspace_id, r.run_id, r.workflow_id, r.address, r.step, r.name, r.rounds, r.kind, r.label, r.why, r.alike, now(), r.pass, r.claim
		FROM unnest($1::uuid[], $2::uuid[], $3::uuid[], $4::bytea[], $5::int[], $6::text[], $7::bytea[], $8::text[], $9::text[], $10::text[], $11::text[], $12::int[], $13::int[], $14::bool[])
			AS r(workspace_id, run_id, workflow_id, address, step, name, rounds, kind, label, why, alike, pass, claim, fresh)
		ON CONFLICT (workspace_id, run_id, address) DO UPDATE SET step = EXCLUDED.step, step_name = EXCLUDED.step_name, rounds = EXCLUDED.rounds, kind = EXCLUDED.kind,
			label = EXCLUDED.label, why = EXCLUDED.why, alike = EXCLUDED.alike, pass = EXCLUDED.pass, claim = EXCLUDED.claim,
			-- One that was tried again and failed again is new; one that nobody touched is as it was.
			since = CASE WHEN a.pass <> EXCLUDED.pass AND (a.why, a.step) IS DISTINCT FROM (EXCLUDED.why, EXCLUDED.step) THEN EXCLUDED.since ELSE a.since END`,
		workspace, run, workflow, address, step, name, rounds, kind, label, why, alike, pass, claim, fresh)
}

// queueStale forgets items that waited for a person before this execution of
// their run, and do not any more.
func (p ends) queueStale(q *pgx.Batch) {
	var workspace, run [][16]byte
	var pass, claim []int32
	for _, e := range p {
		if e.final() && e.Whole && (e.Pass > 1 || e.Claim > 1) {
			workspace, run, pass, claim = append(workspace, e.Workspace), append(run, e.Run), append(pass, int32(e.Pass)), append(claim, int32(e.Claim))
		}
	}
	if len(run) > 0 {
		q.Queue(`DELETE FROM aside a USING unnest($1::uuid[], $2::uuid[], $3::int[], $4::int[]) AS e(workspace_id, run_id, pass, claim)
			WHERE a.workspace_id = ANY (ARRAY[e.workspace_id]) AND a.run_id = e.run_id AND (a.pass, a.claim) <> (e.pass, e.claim)`, workspace, run, pass, claim)
	}
}

// AsideFilter narrows items that wait for a person. Zero fields do not.
type AsideFilter struct {
	Run      uuid.UUID
	Workflow uuid.UUID
	Step     string // its name
	Kind     string
	Alike    string
	Address  item.Address
	Label    string // part of it
	Limit    int
	After    *AsideMark
}

// AsideMark is a place in a list of such items, newest first.
type AsideMark struct {
	Since   time.Time
	Run     uuid.UUID
	Address item.Address
}

// where gives the conditions of a filter, and what they are of.
func (f AsideFilter) where(sc Scope) (string, []any) {
	where, args := "a.workspace_id = $1 AND a.dismissed IS NULL AND NOT EXISTS (SELECT FROM run r WHERE r.workspace_id = a.workspace_id AND r.run_id = a.run_id AND r.state = 'cancelled')", []any{sc.workspace}
	and := func(text string, v any) {
		args = append(args, v)
		where += fmt.Sprintf(" AND "+text, len(args))
	}
	if f.Run != uuid.Nil {
		and("a.run_id = $%d", f.Run)
	}
	if f.Workflow != uuid.Nil {
		and("a.workflow_id = $%d", f.Workflow)
	}
	if f.Step != "" {
		and("a.step_name = $%d", f.Step)
	}
	if f.Kind != "" {
		and("a.kind = $%d", f.Kind)
	}
	if f.Alike != "" {
		and("a.alike = $%d", f.Alike)
	}
	if f.Address != "" {
		and("a.address = $%d", []byte(f.Address))
	}
	if f.Label != "" {
		and("strpos(lower(a.label), lower($%d)) > 0", f.Label)
	}
	return where, args
}

const asideColumns = `a.run_id, a.workflow_id, a.address, a.step, a.step_name, a.rounds, a.kind, a.label, a.why, a.alike, a.since, a.pass,
	EXISTS (SELECT FROM live l WHERE l.workspace_id = a.workspace_id AND l.run_id = a.run_id)`

func scanAside(row pgx.CollectableRow) (a Aside, err error) {
	var address, rounds []byte
	var step int
	err = row.Scan(&a.Run, &a.Workflow, &address, &step, &a.StepName, &rounds, &a.Kind, &a.Label, &a.Why, &a.Alike, &a.Since, &a.Pass, &a.Live)
	a.Address, a.Rounds, a.Step = item.Address(address), item.Rounds(rounds), uint16(step)
	return a, err
}

// AsideItems lists a page of items that wait for a person, newest first.
func (s *Store) AsideItems(ctx context.Context, sc Scope, f AsideFilter) (out []Aside, err error) {
	where, args := f.where(sc)
	if m := f.After; m != nil {
		args = append(args, m.Since, m.Run, []byte(m.Address))
		n := len(args)
		where += fmt.Sprintf(" AND (a.since < $%d OR a.since = $%d AND (a.run_id, a.address) > ($%d, $%d))", n-2, n-2, n-1, n)
	}
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT "+asideColumns+" FROM aside a WHERE "+where+fmt.Sprintf(" ORDER BY a.since DESC, a.run_id, a.address LIMIT %d", f.Limit), args...)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, scanAside)
		return err
	})
	return out, err
}

// AsideGroup are items of one workflow that came to the same at the same step.
type AsideGroup struct {
	Workflow    uuid.UUID
	Step        uint16
	StepName    string
	Kind        string
	Alike       string
	Why         string // of one of them
	Label       string // of the newest
	Items, Runs int
	Busy        int // of which runs are in a further pass at the moment
	First, Last time.Time
}

// AsideGroups groups what waits for a person by its error, the largest first.
func (s *Store) AsideGroups(ctx context.Context, sc Scope, f AsideFilter) (out []AsideGroup, err error) {
	where, args := f.where(sc)
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `SELECT a.workflow_id, a.step, max(a.step_name), a.kind, a.alike, min(a.why), (array_agg(a.label ORDER BY a.since DESC))[1], count(*), count(DISTINCT a.run_id),
				count(*) FILTER (WHERE EXISTS (SELECT FROM live l WHERE l.workspace_id = a.workspace_id AND l.run_id = a.run_id)), min(a.since), max(a.since)
			FROM aside a WHERE `+where+` GROUP BY a.workflow_id, a.step, a.kind, a.alike ORDER BY count(*) DESC, max(a.since) DESC`+fmt.Sprintf(" LIMIT %d", f.Limit), args...)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (g AsideGroup, err error) {
			var step int
			err = row.Scan(&g.Workflow, &step, &g.StepName, &g.Kind, &g.Alike, &g.Why, &g.Label, &g.Items, &g.Runs, &g.Busy, &g.First, &g.Last)
			g.Step = uint16(step)
			return g, err
		})
		return err
	})
	return out, err
}

// AsideCount tells how many items wait for a person.
func (s *Store) AsideCount(ctx context.Context, sc Scope, f AsideFilter) (items, runs int, err error) {
	where, args := f.where(sc)
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		return tx.QueryRow(ctx, "SELECT count(*), count(DISTINCT a.run_id) FROM aside a WHERE "+where, args...).Scan(&items, &runs)
	})
	return items, runs, err
}

// Dismiss lets items wait for nobody any more; restore lets them wait again. It
// tells how many they were.
func (s *Store) Dismiss(ctx context.Context, sc Scope, f AsideFilter, restore bool) (n int, err error) {
	where, args := f.where(sc)
	set := "dismissed = now(), dismissed_by = $%d"
	if restore {
		set = "dismissed = NULL, dismissed_by = nullif($%d, $%[1]d)"
		where = strings.Replace(where, "a.dismissed IS NULL", "a.dismissed IS NOT NULL", 1)
	}
	args = append(args, sc.name)
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, "UPDATE aside a SET "+fmt.Sprintf(set, len(args))+" WHERE "+where, args...)
		n = int(tag.RowsAffected())
		return err
	})
	return n, err
}
