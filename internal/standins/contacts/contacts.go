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
			s.state.Studios[phone] = Studio{fmt.Sprintf("st_%d", 20+i), name, phone}
		}
	}
	s.Service = standins.New("Contacts", func(r *http.Request) (bool, string) {
		return r.Header.Get("Authorization") == "Bearer "+token, "this token is not valid here"
	}, s.page, openapi)
	s.API.GET("/account", func(c *gin.Context) { c.JSON(http.StatusOK, gin.H{"owner": "Ottermere Clayworks, front desk"}) })
	s.API.GET("/studios", s.find)
	s.API.PUT("/studios/by-phone", s.findOrMake)
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
		st = Studio{fmt.Sprintf("st_%d", s.state.Next), in.Name, in.Phone}
		s.state.Studios[in.Phone] = st
	}
	c.JSON(http.StatusOK, gin.H{"id": st.ID, "name": st.Name, "phone": st.Phone, "made": !known, "link": fmt.Sprintf("%s/#%s", s.base, st.ID)})
}

func (s *Contacts) page() template.HTML {
	rows := [][]string{}
	for _, st := range s.Studios() {
		rows = append(rows, []string{st.ID, st.Name, st.Phone})
	}
	return "<h2>Studios</h2>" + standins.Table([]string{"id", "name", "number"}, rows)
}

var openapi = map[string]any{
	"openapi": "3.0.3",
	"info":    map[string]any{"title": "Contacts", "version": "1"},
	"components": map[string]any{"securitySchemes": map[string]any{
		"token": map[string]any{"type": "http", "scheme": "bearer"},
	}},
	"security": []any{map[string]any{"token": []any{}}},
	"paths": map[string]any{
		"/v1/account":          map[string]any{"get": operation("Whose token this is")},
		"/v1/studios":          map[string]any{"get": operation("Find a studio by number")},
		"/v1/studios/by-phone": map[string]any{"put": operation("Find or make a studio by number")},
	},
}

func operation(summary string) map[string]any {
	return map[string]any{"summary": summary, "responses": map[string]any{"200": map[string]any{"description": "Done"}}}
}
