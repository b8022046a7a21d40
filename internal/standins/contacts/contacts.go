// Package contacts is the stand-in for a service of people and studios. It
// signs in by bearer token and takes telephone numbers in E.164 only, one at a
// time.
package contacts

import (
	"fmt"
	"html/template"
	"net/http"
	"regexp"
	"sort"
	"strings"
	"sync"

	"github.com/gin-gonic/gin"

	"youngtrellis/internal/standins"
)

// Studio is a customer.
type Studio struct {
	ID    string `json:"id"`
	Name  string `json:"name"`
	Phone string `json:"phone"`
	// Notes on the studio, oldest first.
	Notes []string `json:"notes,omitempty"`
}

type state struct {
	Studios map[string]Studio `json:"studios"` // by number
	Next    int               `json:"next"`
}

// Contacts is the stand-in.
type Contacts struct {
	*standins.Service
	saved standins.Saved
	mu    sync.Mutex
	state state
	base  string
}

var e164 = regexp.MustCompile(`^\+[1-9][0-9]{9,14}$`)

// New makes the stand-in with the studios that Ottermere knows.
func New(token string, saved standins.Saved) *Contacts {
	s := &Contacts{saved: saved}
	if !saved.Load(&s.state) {
		s.state = state{Next: 40, Studios: map[string]Studio{}}
		for i, name := range []string{"Hollowbank Pottery", "Osierbed Ceramics", "Tern & Tide", "Saltgrass Studio", "Lowlight Tileworks", "Quern Lane", "Mudlark Yard", "Three Kilns"} {
			phone := fmt.Sprintf("+44163296014%d", i+1)
			s.state.Studios[phone] = Studio{ID: fmt.Sprintf("st_%d", 20+i), Name: name, Phone: phone}
		}
	}
	s.Service = standins.New("Contacts", func(r *http.Request) (bool, string) {
		return r.Header.Get("Authorization") == "Bearer "+token, "this token is not valid here"
	}, s.page, standins.Describe(described))
	s.API.GET("/account", func(c *gin.Context) { c.JSON(http.StatusOK, gin.H{"owner": "Ottermere Clayworks, front desk"}) })
	s.API.GET("/studios", s.find)
	s.API.PUT("/studios/by-phone", s.findOrMake)
	s.API.POST("/studios/:id/notes", s.note)
	s.API.POST("/studios/:id/merge", s.merge)
	return s
}

// SetBase tells the address at which it is served, for links.
func (s *Contacts) SetBase(base string) { s.base = base }

// Save keeps the state.
func (s *Contacts) Save() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.saved.Save(s.state)
}

// Studios lists everybody by number.
func (s *Contacts) Studios() []Studio {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := make([]Studio, 0, len(s.state.Studios))
	for _, st := range s.state.Studios {
		out = append(out, st)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Phone < out[j].Phone })
	return out
}

func (s *Contacts) number(c *gin.Context, phone string) bool {
	if !e164.MatchString(phone) {
		standins.Refuse(c, http.StatusUnprocessableEntity, "phone", fmt.Sprintf("“%s” is not a whole number; numbers look like +441632960142", phone))
		return false
	}
	return true
}

func (s *Contacts) find(c *gin.Context) {
	if !s.number(c, c.Query("phone")) {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []Studio{}
	if st, ok := s.state.Studios[c.Query("phone")]; ok {
		out = append(out, st)
	}
	c.JSON(http.StatusOK, gin.H{"studios": out})
}

func (s *Contacts) findOrMake(c *gin.Context) {
	var in struct{ Phone, Name string }
	if err := c.ShouldBindJSON(&in); err != nil {
		standins.Refuse(c, http.StatusBadRequest, "", "the body should be JSON with phone and name")
		return
	}
	if !s.number(c, in.Phone) {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	st, known := s.state.Studios[in.Phone]
	if !known {
		if strings.TrimSpace(in.Name) == "" {
			in.Name = "Unknown caller"
		}
		s.state.Next++
		st = Studio{ID: fmt.Sprintf("st_%d", s.state.Next), Name: in.Name, Phone: in.Phone}
		s.state.Studios[in.Phone] = st
	}
	c.JSON(http.StatusOK, gin.H{"id": st.ID, "name": st.Name, "phone": st.Phone, "made": !known, "link": fmt.Sprintf("%s/#%s", s.base, st.ID)})
}

// byID finds a studio's number by its id.
func (s *Contacts) byID(c *gin.Context, id string) (string, bool) {
	for phone, st := range s.state.Studios {
		if st.ID == id {
			return phone, true
		}
	}
	standins.Refuse(c, http.StatusNotFound, "studio", fmt.Sprintf("there is no studio %s", id))
	return "", false
}

func (s *Contacts) note(c *gin.Context) {
	var in struct{ Text string }
	if err := c.ShouldBindJSON(&in); err != nil || strings.TrimSpace(in.Text) == "" {
		standins.Refuse(c, http.StatusUnprocessableEntity, "text", "a note has words")
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if phone, ok := s.byID(c, c.Param("id")); ok {
		st := s.state.Studios[phone]
		st.Notes = append(st.Notes, in.Text)
		s.state.Studios[phone] = st
		c.JSON(http.StatusCreated, gin.H{"id": st.ID, "notes": len(st.Notes), "link": fmt.Sprintf("%s/#%s", s.base, st.ID)})
	}
}

// merge moves another studio's notes here and forgets it.
func (s *Contacts) merge(c *gin.Context) {
	var in struct{ Other string }
	if err := c.ShouldBindJSON(&in); err != nil || in.Other == c.Param("id") {
		standins.Refuse(c, http.StatusUnprocessableEntity, "other", "name another studio")
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	phone, ok := s.byID(c, c.Param("id"))
	if !ok {
		return
	}
	other, ok := s.byID(c, in.Other)
	if !ok {
		return
	}
	st := s.state.Studios[phone]
	st.Notes = append(st.Notes, s.state.Studios[other].Notes...)
	s.state.Studios[phone] = st
	delete(s.state.Studios, other)
	c.JSON(http.StatusOK, gin.H{"id": st.ID, "notes": len(st.Notes), "link": fmt.Sprintf("%s/#%s", s.base, st.ID)})
}

func (s *Contacts) page() template.HTML {
	rows := [][]string{}
	for _, st := range s.Studios() {
		rows = append(rows, []string{st.ID, st.Name, st.Phone, strings.Join(st.Notes, " / ")})
	}
	return "<h2>Studios</h2>" + standins.Table([]string{"id", "name", "number", "notes"}, rows)
}

var described = standins.Spec{Name: "Contacts", About: "People and studios with their telephone numbers, and notes on them.", Security: map[string]any{"type": "http", "scheme": "bearer"}, Ops: []standins.Op{
	{Method: "GET", Path: "/account", ID: "account", Summary: "Whose token this is", Answer: map[string]any{"owner": "Ottermere Clayworks, front desk"}},
	{Method: "GET", Path: "/studios", ID: "find_studio", Summary: "Find a studio by number", Query: []string{"phone!"}, Answer: map[string]any{"studios": []any{map[string]any{"id": "st_41", "name": "Hollowbank Pottery", "phone": "+441632960142"}}}},
	{Method: "PUT", Path: "/studios/by-phone", ID: "find_or_make_studio", Summary: "Find or make a studio by number", Body: map[string]any{"phone": "+441632960142", "name": "Hollowbank Pottery"}, Answer: map[string]any{"id": "st_41", "name": "Hollowbank Pottery", "phone": "+441632960142", "made": false, "link": ""}},
	{Method: "POST", Path: "/studios/:id/notes", ID: "add_note", Summary: "Add a note on a studio", Body: map[string]any{"text": "…"}, Answer: map[string]any{"id": "st_41", "notes": 1, "link": ""}},
	{Method: "POST", Path: "/studios/:id/merge", ID: "merge_studio", Summary: "Merge another studio into this one", Body: map[string]any{"other": "st_42"}, Answer: map[string]any{"id": "st_41", "notes": 1, "link": ""}},
}}
