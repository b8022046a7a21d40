package tables

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"unicode/utf8"

	"github.com/gin-gonic/gin"

	"youngtrellis/internal/standins"
)

// takes tells whether a row's values fit the tab, and refuses them if not.
func (tab *Tab) takes(c *gin.Context, values map[string]any) bool {
	for name, v := range values {
		if !slices.Contains(tab.Columns, name) {
			standins.Refuse(c, http.StatusUnprocessableEntity, name, fmt.Sprintf("the tab %s has no column %s", tab.Title, name))
			return false
		}
		if s, ok := v.(string); ok && utf8.RuneCountInString(s) > MaxCell {
			standins.Refuse(c, http.StatusUnprocessableEntity, name, fmt.Sprintf("the text for %s has more than %d characters", name, MaxCell))
			return false
		}
	}
	return true
}

func (t *Tables) add(tab *Tab, values map[string]any) Row {
	t.state.Next++
	row := Row{ID: fmt.Sprintf("rw_%05x", t.state.Next*7919%0xfffff), Number: len(tab.Rows) + 1, Values: values}
	tab.Rows = append(tab.Rows, row)
	return row
}

func (t *Tables) answer(tab *Tab, row Row, more gin.H) gin.H {
	more["id"], more["number"], more["link"] = row.ID, row.Number, fmt.Sprintf("%s/#%s-%d", t.base, tab.ID, row.Number)
	return more
}

// with reads the body, finds the tab, and does something with both.
func (t *Tables) with(c *gin.Context, into any, do func(tab *Tab)) {
	if into != nil {
		d := json.NewDecoder(io.LimitReader(c.Request.Body, 8<<20))
		d.UseNumber()
		if err := d.Decode(into); err != nil {
			standins.Refuse(c, http.StatusBadRequest, "", "the body should be a JSON object")
			return
		}
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	tab := t.tab(c.Param("id"))
	if tab == nil {
		standins.Refuse(c, http.StatusNotFound, "tab", fmt.Sprintf("there is no tab %s", c.Param("id")))
		return
	}
	do(tab)
}

func (t *Tables) search(c *gin.Context) {
	t.with(c, nil, func(tab *Tab) {
		column := c.Query("column")
		if !slices.Contains(tab.Columns, column) {
			standins.Refuse(c, http.StatusUnprocessableEntity, "column", fmt.Sprintf("the tab %s has no column %s", tab.Title, column))
			return
		}
		out := []Row{}
		for _, r := range tab.Rows {
			if cell(r.Values[column]) == c.Query("value") {
				out = append(out, r)
			}
		}
		c.JSON(http.StatusOK, gin.H{"rows": out})
	})
}

// upsert changes the row whose key column has the value, or adds one.
func (t *Tables) upsert(c *gin.Context) {
	var in struct {
		Key    string
		Values map[string]any
	}
	t.with(c, &in, func(tab *Tab) {
		if !slices.Contains(tab.Columns, in.Key) || in.Values[in.Key] == nil {
			standins.Refuse(c, http.StatusUnprocessableEntity, "key", fmt.Sprintf("the key should be a column of %s that has a value", tab.Title))
			return
		}
		if !tab.takes(c, in.Values) {
			return
		}
		for i, r := range tab.Rows {
			if cell(r.Values[in.Key]) == cell(in.Values[in.Key]) {
				for k, v := range in.Values {
					tab.Rows[i].Values[k] = v
				}
				c.JSON(http.StatusOK, t.answer(tab, r, gin.H{"added": false}))
				return
			}
		}
		c.JSON(http.StatusOK, t.answer(tab, t.add(tab, in.Values), gin.H{"added": true}))
	})
}

func (t *Tables) row(c *gin.Context, tab *Tab) int {
	i := slices.IndexFunc(tab.Rows, func(r Row) bool { return r.ID == c.Param("row") })
	if i < 0 {
		standins.Refuse(c, http.StatusNotFound, "row", fmt.Sprintf("there is no row %s", c.Param("row")))
	}
	return i
}

func (t *Tables) updateRow(c *gin.Context) {
	var in struct{ Values map[string]any }
	t.with(c, &in, func(tab *Tab) {
		i := t.row(c, tab)
		if i < 0 || !tab.takes(c, in.Values) {
			return
		}
		for k, v := range in.Values {
			tab.Rows[i].Values[k] = v
		}
		c.JSON(http.StatusOK, t.answer(tab, tab.Rows[i], gin.H{}))
	})
}

func (t *Tables) deleteRow(c *gin.Context) {
	t.with(c, nil, func(tab *Tab) {
		i := t.row(c, tab)
		if i < 0 {
			return
		}
		tab.Rows = slices.Delete(tab.Rows, i, i+1)
		for j := i; j < len(tab.Rows); j++ {
			tab.Rows[j].Number--
		}
		c.JSON(http.StatusOK, gin.H{"deleted": c.Param("row")})
	})
}

// replaceAll puts other rows in place of all, whole or not at all.
func (t *Tables) replaceAll(c *gin.Context) {
	var in struct{ Rows []map[string]any }
	t.with(c, &in, func(tab *Tab) {
		for _, values := range in.Rows {
			if !tab.takes(c, values) {
				return
			}
		}
		tab.Rows = nil
		for _, values := range in.Rows {
			t.add(tab, values)
		}
		c.JSON(http.StatusOK, gin.H{"rows": len(tab.Rows)})
	})
}

var values = map[string]any{"name": "Tall jug", "count": 3}

var described = standins.Spec{Name: "Tables", About: "Workbooks with tabs and rows.", Security: map[string]any{"type": "apiKey", "in": "header", "name": "X-Tables-Key"}, Ops: []standins.Op{
	{Method: "GET", Path: "/me", ID: "me", Summary: "Whose key this is", Answer: map[string]any{"name": "Ottermere Clayworks", "plan": "workshop"}},
	{Method: "GET", Path: "/workbooks", ID: "list_workbooks", Summary: "List the workbooks", Answer: map[string]any{"workbooks": []any{map[string]any{"id": "wb_1", "title": "Counter"}}}},
	{Method: "GET", Path: "/workbooks/:id/tabs", ID: "list_tabs", Summary: "List the tabs of a workbook", Answer: map[string]any{"tabs": []any{map[string]any{"id": "tb_1", "title": "Calls"}}}},
	{Method: "GET", Path: "/tabs/:id/columns", ID: "list_columns", Summary: "List the columns of a tab", Answer: map[string]any{"columns": []any{map[string]any{"name": "piece"}}}},
	{Method: "GET", Path: "/tabs/:id/rows", ID: "list_rows", Summary: "Read the rows of a tab", Query: []string{"limit", "cursor"}, Answer: map[string]any{"rows": []any{map[string]any{"id": "rw_1", "number": 1, "values": values}}, "next": "200"}},
	{Method: "POST", Path: "/tabs/:id/rows", ID: "add_row", Summary: "Add a row", Body: map[string]any{"values": values}, Answer: map[string]any{"id": "rw_1", "number": 1, "link": ""}},
	{Method: "PUT", Path: "/tabs/:id/rows", ID: "replace_rows", Summary: "Replace all rows", Body: map[string]any{"rows": []any{values}}, Answer: map[string]any{"rows": 1}},
	{Method: "GET", Path: "/tabs/:id/search", ID: "search_rows", Summary: "Find rows by a value", Query: []string{"column!", "value!"}, Answer: map[string]any{"rows": []any{map[string]any{"id": "rw_1", "values": values}}}},
	{Method: "PUT", Path: "/tabs/:id/by-key", ID: "add_or_change_row", Summary: "Add a row, or change the one with the same key", Body: map[string]any{"key": "name", "values": values}, Answer: map[string]any{"id": "rw_1", "number": 1, "added": true, "link": ""}},
	{Method: "PATCH", Path: "/tabs/:id/rows/:row", ID: "change_row", Summary: "Change a row", Body: map[string]any{"values": values}, Answer: map[string]any{"id": "rw_1", "number": 1}},
	{Method: "DELETE", Path: "/tabs/:id/rows/:row", ID: "delete_row", Summary: "Delete a row", Answer: map[string]any{"deleted": "rw_1"}},
}}
