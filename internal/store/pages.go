package store

import (
	"context"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// LatticePage is a page of the lattice index.
type LatticePage struct {
	Workspace, Run  uuid.UUID
	Pass, Page      int
	FirstRow, Count int
	Fates           []byte
	Body            []byte
}

// pageWrite is a page on its way.
type pageWrite struct {
	*LatticePage
	err error
}

func (w *pageWrite) size() int        { return len(w.Body) + len(w.Fates) }
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
		workspace, run           [][16]byte
		pass, page, first, count []int32
		fates, body              [][]byte
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
		pass, page, first, count = append(pass, int32(x.Pass)), append(page, int32(x.Page)), append(first, int32(x.FirstRow)), append(count, int32(x.Count))
		fates, body = append(fates, x.Fates), append(body, x.Body)
	}
	if len(run) == 0 {
		return
	}
	q.Queue(`INSERT INTO lattice (workspace_id, run_id, pass, page, first_row, row_count, fates, body)
		SELECT l.workspace_id, l.run_id, l.pass, l.page, l.first_row, l.row_count, l.fates, l.body
		FROM unnest($1::uuid[], $2::uuid[], $3::int[], $4::int[], $5::int[], $6::int[], $7::bytea[], $8::bytea[]) AS l(workspace_id, run_id, pass, page, first_row, row_count, fates, body)
		ON CONFLICT (workspace_id, run_id, pass, page) DO UPDATE SET first_row = EXCLUDED.first_row, row_count = EXCLUDED.row_count, fates = EXCLUDED.fates, body = EXCLUDED.body`,
		workspace, run, pass, page, first, count, fates, body)
}
