package store

import (
	"context"
	"errors"
	"slices"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"youngtrellis/internal/core/engine"
)

// LatticePage is a page of the lattice index.
type LatticePage struct {
	Workspace, Run uuid.UUID
	Pass, Page     int
	Shape          []byte // its rows without their words, packed
	Keys           []byte // by which the page of a row is found
	Body           []byte
	Waits          []engine.Place // the items outside of loops that wait, whose rows are new on the page
	Aside          []Aside        // the items that wait for a person, whose rows are new on the page
	Found          []Found        // by what its items are found again
	Workflow       uuid.UUID
	Claim          int // of the execution that writes it
}

// pageWrite is a page on its way.
type pageWrite struct {
	*LatticePage
	err error
}

func (w *pageWrite) size() int        { return len(w.Body) + len(w.Shape) + len(w.Keys) }
func (w *pageWrite) of() uuid.UUID    { return w.Workspace }
func (w *pageWrite) join(b *batch)    { b.pages = append(b.pages, w.LatticePage) }
func (w *pageWrite) settle(err error) { w.err = err }

// Lattice makes a page of the lattice durable.
func (c *Committer) Lattice(ctx context.Context, p *LatticePage) error {
	w := &pageWrite{LatticePage: p}
	if err := c.await(ctx, w); err != nil {
		return err
	}
	return w.err
}

// pages are all those of a batch, also those that come with ends.
type pages []*LatticePage

func (p pages) queue(q *pgx.Batch) {
	var (
		workspace, run    [][16]byte
		pass, page        []int32
		body, shape, keys [][]byte
	)
	type place struct {
		run        uuid.UUID
		pass, page int
	}
	last := map[place]int{} // of two of the same, the later counts
	for i, x := range p {
		last[place{x.Run, x.Pass, x.Page}] = i
	}
	for i, x := range p {
		if last[place{x.Run, x.Pass, x.Page}] != i {
			continue
		}
		workspace, run = append(workspace, x.Workspace), append(run, x.Run)
		pass, page = append(pass, int32(x.Pass)), append(page, int32(x.Page))
		body, shape, keys = append(body, x.Body), append(shape, x.Shape), append(keys, x.Keys)
	}
	if len(run) == 0 {
		return
	}
	q.Queue(`INSERT INTO lattice (workspace_id, run_id, pass, page, body, shape, keys)
		SELECT l.workspace_id, l.run_id, l.pass, l.page, l.body, l.shape, l.keys
		FROM unnest($1::uuid[], $2::uuid[], $3::int[], $4::int[], $5::bytea[], $6::bytea[], $7::bytea[]) AS l(workspace_id, run_id, pass, page, body, shape, keys)
		ON CONFLICT (workspace_id, run_id, pass, page) DO UPDATE SET body = EXCLUDED.body, shape = EXCLUDED.shape, keys = EXCLUDED.keys`,
		workspace, run, pass, page, body, shape, keys)
	p.queueWaits(q)
	p.queueAside(q)
	p.queueFound(q)
}

// queueWaits notes where the rows of waiting items stand, for those who wake them.
func (p pages) queueWaits(q *pgx.Batch) {
	var (
		workspace, run [][16]byte
		step, page     []int32
		address        [][]byte
	)
	for _, x := range p {
		for _, w := range x.Waits {
			workspace, run, page = append(workspace, x.Workspace), append(run, x.Run), append(page, int32(x.Page))
			step, address = append(step, int32(w.Step)), append(address, []byte(w.Address))
		}
	}
	if len(run) > 0 {
		q.Queue(`UPDATE waiting w SET page = p.page FROM unnest($1::uuid[], $2::uuid[], $3::int[], $4::bytea[], $5::int[]) AS p(workspace_id, run_id, step, address, page)
			WHERE w.workspace_id = ANY (ARRAY[p.workspace_id]) AND w.run_id = p.run_id AND w.step = p.step AND w.rounds = '' AND w.address = p.address`, workspace, run, step, address, page)
	}
}

// LatticeLast gives the number of the last page of a pass, and whether it has any.
func (s *Store) LatticeLast(ctx context.Context, workspace, run uuid.UUID, pass int) (page int, found bool, err error) {
	err = s.node.QueryRow(ctx, "SELECT page FROM lattice WHERE workspace_id = $1 AND run_id = $2 AND pass = $3 ORDER BY page DESC LIMIT 1", workspace, run, pass).Scan(&page)
	if errors.Is(err, pgx.ErrNoRows) {
		return 0, false, nil
	}
	return page, err == nil, unavailable(err)
}

// LatticePages reads the rows of some pages of a pass, packed.
func (s *Store) LatticePages(ctx context.Context, workspace, run uuid.UUID, pass int, pages []int) (map[int][]byte, error) {
	rows, err := s.node.Query(ctx, "SELECT page, body FROM lattice WHERE workspace_id = $1 AND run_id = $2 AND pass = $3 AND page = ANY($4)", workspace, run, pass, pages)
	if err != nil {
		return nil, unavailable(err)
	}
	out := map[int][]byte{}
	var page int
	var body []byte
	_, err = pgx.ForEachRow(rows, []any{&page, &body}, func() error { out[page] = slices.Clone(body); return nil })
	return out, unavailable(err)
}
