package server

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"youngtrellis/api"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/lists"
	"youngtrellis/internal/core/words"
	"youngtrellis/internal/store"
	"youngtrellis/internal/workflows"
)

func (s *Server) readers(ctx context.Context, sc store.Scope) (map[string][]string, error) {
	return s.named(ctx, sc, func(o workflows.Outline) []string { return o.Lists })
}

// shownList is a list as callers see it.
func shownList(l store.List, readers map[string][]string) api.WorkspaceList {
	return api.WorkspaceList{Name: l.Name, Title: l.Title, About: l.About, Columns: shownColumns(l.Columns), Version: l.Version, Rows: l.Rows, Changed: l.Changed, ChangedBy: l.ChangedBy, UsedBy: readers[l.Name]}
}

func shownColumns(columns []lists.Column) []api.ListColumn {
	out := make([]api.ListColumn, len(columns))
	for i, c := range columns {
		out[i] = api.ListColumn{Name: c.Name, Title: given(c.Title), Type: api.ListColumnType(c.Type)}
	}
	return out
}

func columnsOf(columns []api.ListColumn) []lists.Column {
	out := make([]lists.Column, len(columns))
	for i, c := range columns {
		out[i] = lists.Column{Name: c.Name, Title: strings.TrimSpace(or(c.Title, "")), Type: lists.Type(c.Type), Was: or(c.Was, "")}
	}
	return out
}

func shownRow(r lists.Row) api.ListRow {
	return api.ListRow{Key: r.Key, Fields: raw(r.Fields)}
}

// listFault tells what is wrong with what was brought, each with its row and column.
func listFault(title string, err error) error {
	var wrong lists.Wrongs
	if !errors.As(err, &wrong) {
		return err
	}
	const most = 100
	f := &fault{status: http.StatusUnprocessableEntity, kind: "invalid_input", title: title}
	for _, w := range wrong[:min(most, len(wrong))] {
		var field []string
		if w.Row > 0 {
			field = append(field, fmt.Sprintf("row %d", w.Row))
		}
		if w.Column != "" {
			field = append(field, w.Column)
		}
		f.fields = append(f.fields, form.FieldError{Field: strings.Join(field, ", "), Message: w.Message})
	}
	if len(wrong) > most {
		f.detail = fmt.Sprintf("These are the first %d of %s.", most, words.Count(len(wrong), "fault"))
	}
	return f
}

// ListLists implements api.StrictServerInterface.
func (s *Server) ListLists(ctx context.Context, _ api.ListListsRequestObject) (api.ListListsResponseObject, error) {
	sc := scopeOf(ctx)
	all, err := s.Store.Lists(ctx, sc)
	if err != nil {
		return nil, err
	}
	readers, err := s.readers(ctx, sc)
	out := api.ListLists200JSONResponse{}
	for _, l := range all {
		out.Lists = append(out.Lists, shownList(l, readers))
	}
	return out, err
}

// GetList implements api.StrictServerInterface.
func (s *Server) GetList(ctx context.Context, r api.GetListRequestObject) (api.GetListResponseObject, error) {
	l, err := s.Store.List(ctx, scopeOf(ctx), r.List)
	if err != nil {
		return nil, err
	}
	readers, err := s.readers(ctx, scopeOf(ctx))
	return api.GetList200JSONResponse(shownList(l, readers)), err
}

// AddList implements api.StrictServerInterface.
func (s *Server) AddList(ctx context.Context, r api.AddListRequestObject) (api.AddListResponseObject, error) {
	b := r.Body
	if err := lists.CheckName(b.Name); err != nil {
		return nil, invalid("name", err.Error())
	}
	table := &lists.Table{}
	var err error
	if b.Columns != nil {
		table.Columns = columnsOf(*b.Columns)
		if err := lists.CheckColumns(table.Columns); err != nil {
			return nil, listFault("The columns are not right.", err)
		}
	}
	what := "created"
	if csv := or(b.Csv, ""); csv != "" || b.Columns == nil {
		columns := table.Columns
		if table, err = lists.ReadCSV([]byte(csv), columns); err != nil {
			return nil, listFault("The CSV cannot be taken in.", err)
		}
		if columns != nil {
			table.Columns = columns
		}
		what = "created with " + words.Count(len(table.Rows), "row")
	}
	title := strings.TrimSpace(or(b.Title, ""))
	if title == "" {
		title = strings.TrimSuffix(words.Sentence(strings.NewReplacer("-", " ", "_", " ").Replace(b.Name)), ".")
	}
	l, err := s.Store.AddList(ctx, scopeOf(ctx), store.List{Name: b.Name, Title: title, About: or(b.About, "")}, table, what)
	switch {
	case errors.Is(err, store.ErrTaken):
		return nil, refuse(http.StatusConflict, "taken", fmt.Sprintf("There is a list called %s already.", b.Name))
	case errors.Is(err, store.ErrFull):
		return nil, refuse(http.StatusConflict, "full", fmt.Sprintf("A workspace has at most %d lists. Remove one first.", store.MaxLists))
	case err != nil:
		return nil, err
	}
	readers, err := s.readers(ctx, scopeOf(ctx))
	return api.AddList201JSONResponse(shownList(l, readers)), err
}

// RemoveList implements api.StrictServerInterface.
func (s *Server) RemoveList(ctx context.Context, r api.RemoveListRequestObject) (api.RemoveListResponseObject, error) {
	readers, err := s.readers(ctx, scopeOf(ctx))
	if err != nil {
		return nil, err
	}
	if by := readers[r.List]; len(by) > 0 {
		return nil, refuse(http.StatusConflict, "in_use", fmt.Sprintf("It is read by %s. Take it out there first.", words.And(by...)))
	}
	return api.RemoveList204Response{}, s.Store.RemoveList(ctx, scopeOf(ctx), r.List)
}

// ListRows implements api.StrictServerInterface.
func (s *Server) ListRows(ctx context.Context, r api.ListRowsRequestObject) (api.ListRowsResponseObject, error) {
	l, table, err := s.Store.ListTable(ctx, scopeOf(ctx), r.List)
	if err != nil {
		return nil, err
	}
	rows := table.Rows
	if find := strings.ToLower(strings.TrimSpace(or(r.Params.Find, ""))); find != "" {
		rows = slices.DeleteFunc(rows, func(r lists.Row) bool { return !table.Holds(r, find) })
	}
	out := api.ListRows{Version: l.Version, Total: len(rows)}
	from := min(or(r.Params.From, 0), len(rows))
	for _, row := range rows[from:min(from+or(r.Params.Limit, 200), len(rows))] {
		out.Rows = append(out.Rows, shownRow(row))
	}
	return api.ListRows200JSONResponse(out), nil
}

// changed changes a list and tells what became of it.
func (s *Server) changed(ctx context.Context, name string, change store.Changing) (api.ListOutcome, error) {
	l, d, err := s.Store.ChangeList(ctx, scopeOf(ctx), name, change)
	if err != nil {
		return api.ListOutcome{}, listFault("Nothing was changed, for something is not right.", err)
	}
	readers, err := s.readers(ctx, scopeOf(ctx))
	return outcome(l, d, readers), err
}

func outcome(l store.List, d lists.Difference, readers map[string][]string) api.ListOutcome {
	return api.ListOutcome{List: shownList(l, readers), Added: len(d.Added), Changed: len(d.Changed), Removed: len(d.Removed), Sentence: words.Sentence(d.String())}
}

// ChangeList implements api.StrictServerInterface.
func (s *Server) ChangeList(ctx context.Context, r api.ChangeListRequestObject) (api.ChangeListResponseObject, error) {
	seen, err := version(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	out, err := s.changed(ctx, r.List, func(l *store.List, now *lists.Table, _ store.Earlier) (*lists.Table, string, error) {
		if seen != 0 && int(seen) != l.Version {
			return nil, "", store.ErrConflict
		}
		var what []string
		if title := strings.TrimSpace(or(r.Body.Title, "")); title != "" && title != l.Title {
			l.Title = title
			what = append(what, "the title changed")
		}
		if about := r.Body.About; about != nil && *about != l.About {
			l.About = *about
			what = append(what, "what it is for changed")
		}
		then := now
		if r.Body.Columns != nil {
			if then, err = now.Reshape(columnsOf(*r.Body.Columns)); err != nil {
				return nil, "", err
			}
			if !slices.Equal(then.Columns, now.Columns) {
				what = append(what, "the columns changed")
			}
		}
		if len(what) == 0 {
			return then, "", nil
		}
		return then, words.And(what...), nil
	})
	return api.ChangeList200JSONResponse(out), err
}

// EditList implements api.StrictServerInterface.
func (s *Server) EditList(ctx context.Context, r api.EditListRequestObject) (api.EditListResponseObject, error) {
	seen, err := version(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	edits := make([]lists.Change, len(r.Body.Edits))
	for i, e := range r.Body.Edits {
		edits[i] = lists.Change{Key: or(e.Key, ""), Remove: or(e.Remove, false)}
		if e.Fields != nil {
			if edits[i].Fields, err = item.DecodeObject(*e.Fields); err != nil {
				return nil, invalid(fmt.Sprintf("edits[%d].fields", i), err.Error())
			}
		}
	}
	out, err := s.changed(ctx, r.List, func(l *store.List, now *lists.Table, earlier store.Earlier) (*lists.Table, string, error) {
		if err := untouched(int(seen), l.Version, now, earlier, edits); err != nil {
			return nil, "", err
		}
		then, err := now.Apply(edits)
		return then, "", err
	})
	return api.EditList200JSONResponse(out), err
}

// untouched refuses edits of rows that somebody else has changed since a version that
// was seen; 0 for none.
func untouched(seen, version int, now *lists.Table, earlier store.Earlier, edits []lists.Change) error {
	if seen == 0 || seen == version {
		return nil
	}
	then, err := earlier(seen)
	if errors.Is(err, store.ErrNotFound) || err == nil && !slices.Equal(then.Columns, now.Columns) {
		return store.ErrConflict
	}
	if err != nil {
		return err
	}
	if key, touched := lists.Between(then.Rows, now.Rows).Touches(edits); touched {
		return refuse(http.StatusPreconditionFailed, "stale", fmt.Sprintf("Somebody else has changed the row %q in between. Look at it again, and make your change there.", words.Short(key, 60)))
	}
	return nil
}

// ImportList implements api.StrictServerInterface.
func (s *Server) ImportList(ctx context.Context, r api.ImportListRequestObject) (api.ImportListResponseObject, error) {
	seen, err := version(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	how := lists.Merge
	if r.Body.How != nil {
		how = lists.How(*r.Body.How)
	}
	join := func(l *store.List, now *lists.Table, _ store.Earlier) (*lists.Table, string, error) {
		if seen != 0 && int(seen) != l.Version {
			return nil, "", store.ErrConflict
		}
		in, err := lists.ReadCSV([]byte(r.Body.Csv), now.Columns)
		if err != nil {
			return nil, "", err
		}
		then, err := now.Join(in, how)
		if err != nil {
			return nil, "", err
		}
		if d := lists.Between(now.Rows, then.Rows); !d.None() {
			return then, "taken in from CSV: " + d.String(), nil
		}
		return then, "", nil
	}
	if !or(r.Body.Try, false) {
		out, err := s.changed(ctx, r.List, join)
		return api.ImportList200JSONResponse(out), err
	}
	l, now, err := s.Store.ListTable(ctx, scopeOf(ctx), r.List)
	if err != nil {
		return nil, err
	}
	then, _, err := join(&l, now, nil)
	if err != nil {
		return nil, listFault("The CSV cannot be taken in.", err)
	}
	readers, err := s.readers(ctx, scopeOf(ctx))
	return api.ImportList200JSONResponse(outcome(l, lists.Between(now.Rows, then.Rows), readers)), err
}

// ExportList implements api.StrictServerInterface.
func (s *Server) ExportList(ctx context.Context, r api.ExportListRequestObject) (api.ExportListResponseObject, error) {
	l, table, err := s.Store.ListTable(ctx, scopeOf(ctx), r.List)
	if err != nil {
		return nil, err
	}
	var text bytes.Buffer
	if err := table.WriteCSV(&text); err != nil {
		return nil, err
	}
	disposition := attachment(l.Name + "-" + time.Now().UTC().Format(time.DateOnly) + ".csv")
	return api.ExportList200TextcsvResponse{Body: &text, ContentLength: int64(text.Len()), Headers: api.ExportList200ResponseHeaders{ContentDisposition: &disposition, XContentTypeOptions: some("nosniff")}}, nil
}

// ListChanges implements api.StrictServerInterface.
func (s *Server) ListChanges(ctx context.Context, r api.ListChangesRequestObject) (api.ListChangesResponseObject, error) {
	changes, err := s.Store.ListChanges(ctx, scopeOf(ctx), r.List, or(r.Params.Before, 0), or(r.Params.Limit, 50))
	out := api.ListChanges200JSONResponse{}
	for _, c := range changes {
		out.Changes = append(out.Changes, api.ListChange{Version: c.Version, At: c.At, ChangedBy: c.ChangedBy, What: c.What})
	}
	return out, err
}

// GetListChange implements api.StrictServerInterface.
func (s *Server) GetListChange(ctx context.Context, r api.GetListChangeRequestObject) (api.GetListChangeResponseObject, error) {
	before, after, err := s.Store.ListAt(ctx, scopeOf(ctx), r.List, r.Number)
	if err != nil {
		return nil, err
	}
	out := api.ListChanged{Columns: shownColumns(after.Columns)}
	if before == nil {
		before = &lists.Table{}
	}
	was, is := before.ByKey(), after.ByKey()
	d := lists.Between(before.Rows, after.Rows)
	for _, key := range d.Added {
		out.Added = append(out.Added, shownRow(is[key]))
	}
	for _, key := range d.Removed {
		out.Removed = append(out.Removed, shownRow(was[key]))
	}
	for _, key := range d.Changed {
		out.Changed = append(out.Changed, struct {
			After  api.ListRow `json:"after"`
			Before api.ListRow `json:"before"`
		}{shownRow(is[key]), shownRow(was[key])})
	}
	return api.GetListChange200JSONResponse(out), nil
}

// PutListBack implements api.StrictServerInterface.
func (s *Server) PutListBack(ctx context.Context, r api.PutListBackRequestObject) (api.PutListBackResponseObject, error) {
	out, err := s.changed(ctx, r.List, func(_ *store.List, now *lists.Table, earlier store.Earlier) (*lists.Table, string, error) {
		then, err := earlier(r.Number)
		if err != nil {
			return nil, "", err
		}
		d := lists.Between(now.Rows, then.Rows)
		if d.None() && slices.Equal(now.Columns, then.Columns) {
			return then, "", nil
		}
		return then, fmt.Sprintf("put back as it was after change %d: %s", r.Number, d), nil
	})
	return api.PutListBack200JSONResponse(out), err
}
