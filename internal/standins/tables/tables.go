// Package tables is the stand-in for a service of workbooks, tabs and rows. It
// signs in by a key in X-Tables-Key, takes at most 2,000 characters a cell,
// has opaque ids, and pages by cursor.
package tables

import (
	"bytes"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"net/http"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"youngtrellis/internal/standins"
)

// MaxCell is the longest text that a cell takes, in characters.
const MaxCell = 2000

// Row of a tab.
type Row struct {
	ID     string         `json:"id"`
	Number int            `json:"number"`
	Values map[string]any `json:"values"`
}

// Tab of a workbook.
type Tab struct {
	ID      string   `json:"id"`
	Title   string   `json:"title"`
	Columns []string `json:"columns"`
	Rows    []Row    `json:"rows"`
}

// Workbook with its tabs.
type Workbook struct {
	ID    string `json:"id"`
	Title string `json:"title"`
	Tabs  []*Tab `json:"tabs"`
}

type state struct {
	Workbooks []*Workbook `json:"workbooks"`
	Next      int         `json:"next"`
}

// Tables is the stand-in.
type Tables struct {
	*standins.Service
	key   string
	saved standins.Saved
	mu    sync.Mutex
	state state
	base  string
}

// Ids that the demo's workflows name.
const (
	CounterBook = "wb_7q2kd0"
	CallsTab    = "tb_h4m9xa"
	HallBook    = "wb_p91zsu"
	PiecesTab   = "tb_c0w8rn"
	LoadsTab    = "tb_e5j3vy"
	WorksBook   = "wb_z4n8ce"
	GasTab      = "tb_g8p2rt"
	NearTab     = "tb_n5s7wk"
	CardsTab    = "tb_v3x9ud"
	OrdersTab   = "tb_q2w6oe"
)

// New makes the stand-in with Ottermere's workbooks as of a day.
func New(key string, day time.Time, saved standins.Saved) *Tables {
	t := &Tables{key: key, saved: saved}
	if !saved.Load(&t.state) {
		t.state = seed(day)
	}
	t.Service = standins.New("Tables", func(r *http.Request) (bool, string) {
		given := r.Header.Get("X-Tables-Key")
		return given == key, "the key in X-Tables-Key is not known"
	}, t.page, standins.Describe(described))
	t.API.GET("/me", func(c *gin.Context) { c.JSON(http.StatusOK, gin.H{"name": "Ottermere Clayworks", "plan": "workshop"}) })
	t.API.GET("/workbooks", t.workbooks)
	t.API.GET("/workbooks/:id/tabs", t.tabs)
	t.API.GET("/tabs/:id/columns", t.columns)
	t.API.GET("/tabs/:id/rows", t.rows)
	t.API.POST("/tabs/:id/rows", t.appendRow)
	t.API.PUT("/tabs/:id/rows", t.replaceAll)
	t.API.GET("/tabs/:id/search", t.search)
	t.API.PUT("/tabs/:id/by-key", t.upsert)
	t.API.PATCH("/tabs/:id/rows/:row", t.updateRow)
	t.API.DELETE("/tabs/:id/rows/:row", t.deleteRow)
	return t
}

// SetBase tells the address at which it is served, for links.
func (t *Tables) SetBase(base string) { t.base = base }

// Save keeps the state.
func (t *Tables) Save() error {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.saved.Save(t.state)
}

func seed(day time.Time) state {
	pieces := []struct {
		piece, studio, cone string
		height, days        int
	}{
		{"Tall jug", "Hollowbank Pottery", "9", 41, 8}, {"Six beakers", "Osierbed Ceramics", "9", 12, 11}, {"Ash bowl", "Tern & Tide", "9", 18, 7},
		{"Large platter", "Saltgrass Studio", "9", 9, 3}, {"Tiles, 40", "Lowlight Tileworks", "04", 2, 9}, {"Tiles, 12", "Quern Lane", "04", 2, 6},
		{"Moon jar", "Mudlark Yard", "6", 38, 2}, {"Teapot", "Osierbed Ceramics", "6", 22, 14}, {"Test rings", "Hollowbank Pottery", "6", 4, 6},
		{"Relief panel", "Three Kilns", "6", 5, 10}, {"Lidded pot", "Saltgrass Studio", "6", 26, 5},
	}
	tab := &Tab{ID: PiecesTab, Title: "Pieces", Columns: []string{"piece", "studio", "cone", "height_cm", "dry_since"}}
	for i, p := range pieces {
		tab.Rows = append(tab.Rows, Row{ID: fmt.Sprintf("rw_p%03d", i+1), Number: i + 1, Values: map[string]any{
			"piece": p.piece, "studio": p.studio, "cone": p.cone, "height_cm": p.height, "dry_since": day.AddDate(0, 0, -p.days).Format("2006-01-02"),
		}})
	}
	return state{Next: 1000, Workbooks: []*Workbook{
		{ID: CounterBook, Title: "Counter", Tabs: []*Tab{{ID: CallsTab, Title: "Calls", Columns: []string{"number", "name", "minutes", "ended"}}}},
		{ID: HallBook, Title: "Kiln hall", Tabs: []*Tab{tab, {ID: LoadsTab, Title: "Loads", Columns: []string{"piece", "studio", "cone", "dried"}}}},
		{ID: WorksBook, Title: "Works", Tabs: []*Tab{{ID: GasTab, Title: "Gas", Columns: []string{"day", "price", "unit"}}, {ID: NearTab, Title: "Suppliers", Columns: []string{"name", "town", "km", "phone", "group"}}, {ID: CardsTab, Title: "Firing cards", Columns: []string{"card", "text", "doubtful"}}, {ID: OrdersTab, Title: "Orders", Columns: []string{"order", "studio", "glazes", "litres", "price"}}}},
		{ID: "wb_m3y6ft", Title: "Glaze recipes", Tabs: []*Tab{{ID: "tb_k7d1qb", Title: "Celadon", Columns: []string{"part", "grams"}}}},
	}}
}

func (t *Tables) tab(id string) *Tab {
	for _, w := range t.state.Workbooks {
		for _, tab := range w.Tabs {
			if tab.ID == id {
				return tab
			}
		}
	}
	return nil
}

// Rows gives a copy of a tab's rows.
func (t *Tables) Rows(tab string) []Row {
	t.mu.Lock()
	defer t.mu.Unlock()
	if found := t.tab(tab); found != nil {
		return slices.Clone(found.Rows)
	}
	return nil
}

// Fill puts n made-up pieces into the pieces tab, for trials with many rows.
func (t *Tables) Fill(n int, day time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	tab := t.tab(PiecesTab)
	tab.Rows = nil
	for i := range n {
		tab.Rows = append(tab.Rows, Row{ID: fmt.Sprintf("rw_f%06d", i), Number: i + 1, Values: map[string]any{
			"piece": fmt.Sprintf("Tile %d", i+1), "studio": "Lowlight Tileworks", "cone": "04", "height_cm": 2, "dry_since": day.AddDate(0, 0, -9).Format("2006-01-02"),
		}})
	}
}

func (t *Tables) workbooks(c *gin.Context) {
	t.mu.Lock()
	defer t.mu.Unlock()
	out := []gin.H{}
	for _, w := range t.state.Workbooks {
		out = append(out, gin.H{"id": w.ID, "title": w.Title})
	}
	c.JSON(http.StatusOK, gin.H{"workbooks": out})
}

func (t *Tables) tabs(c *gin.Context) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, w := range t.state.Workbooks {
		if w.ID == c.Param("id") {
			out := []gin.H{}
			for _, tab := range w.Tabs {
				out = append(out, gin.H{"id": tab.ID, "title": tab.Title})
			}
			c.JSON(http.StatusOK, gin.H{"tabs": out})
			return
		}
	}
	standins.Refuse(c, http.StatusNotFound, "workbook", fmt.Sprintf("there is no workbook %s", c.Param("id")))
}

func (t *Tables) columns(c *gin.Context) {
	t.mu.Lock()
	defer t.mu.Unlock()
	tab := t.tab(c.Param("id"))
	if tab == nil {
		standins.Refuse(c, http.StatusNotFound, "tab", fmt.Sprintf("there is no tab %s", c.Param("id")))
		return
	}
	out := []gin.H{}
	for _, name := range tab.Columns {
		out = append(out, gin.H{"name": name})
	}
	c.JSON(http.StatusOK, gin.H{"columns": out})
}

func (t *Tables) rows(c *gin.Context) {
	t.mu.Lock()
	defer t.mu.Unlock()
	tab := t.tab(c.Param("id"))
	if tab == nil {
		standins.Refuse(c, http.StatusNotFound, "tab", fmt.Sprintf("there is no tab %s", c.Param("id")))
		return
	}
	limit, err := strconv.Atoi(c.DefaultQuery("limit", "100"))
	if err != nil || limit < 1 || limit > 500 {
		standins.Refuse(c, http.StatusUnprocessableEntity, "limit", "limit lies between 1 and 500")
		return
	}
	from := 0
	if cursor := c.Query("cursor"); cursor != "" {
		if from, err = strconv.Atoi(cursor); err != nil || from < 0 || from > len(tab.Rows) {
			standins.Refuse(c, http.StatusUnprocessableEntity, "cursor", "this cursor is not one of ours")
			return
		}
	}
	to := min(from+limit, len(tab.Rows))
	out := gin.H{"rows": tab.Rows[from:to]}
	if to < len(tab.Rows) {
		out["next"] = strconv.Itoa(to)
	}
	c.JSON(http.StatusOK, out)
}

func (t *Tables) appendRow(c *gin.Context) {
	b, err := io.ReadAll(io.LimitReader(c.Request.Body, 1<<20))
	var in struct {
		Values map[string]any `json:"values"`
	}
	d := json.NewDecoder(bytes.NewReader(b))
	d.UseNumber()
	if err != nil || d.Decode(&in) != nil || len(in.Values) == 0 {
		standins.Refuse(c, http.StatusUnprocessableEntity, "values", "values should be an object with at least one column")
		return
	}
	t.with(c, nil, func(tab *Tab) {
		if tab.takes(c, in.Values) {
			c.JSON(http.StatusCreated, t.answer(tab, t.add(tab, in.Values), gin.H{}))
		}
	})
}

func (t *Tables) page() template.HTML {
	t.mu.Lock()
	defer t.mu.Unlock()
	out := template.HTML("")
	for _, w := range t.state.Workbooks {
		for _, tab := range w.Tabs {
			rows := [][]string{}
			for _, r := range tab.Rows[max(0, len(tab.Rows)-200):] {
				line := []string{strconv.Itoa(r.Number)}
				for _, name := range tab.Columns {
					line = append(line, cell(r.Values[name]))
				}
				rows = append(rows, line)
			}
			out += template.HTML(fmt.Sprintf("<h2 id=%q>%s, %s</h2>", tab.ID, template.HTMLEscapeString(w.Title), template.HTMLEscapeString(tab.Title))) +
				standins.Table(append([]string{"row"}, tab.Columns...), rows)
		}
	}
	return out
}

func cell(v any) string {
	if v == nil {
		return ""
	}
	return fmt.Sprint(v)
}
