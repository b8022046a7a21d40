package steps

import (
	"errors"
	"fmt"
	"strings"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/form"
)

type branch struct {
	Cases []Case     `form:"cases,required" title:"Cases" hint:"cases" min:"1" max:"40"`
	Else  form.Steps `form:"else" title:"Else" help:"The steps of items for which no case holds. Without them such items go on."`
	Take  string     `form:"take" title:"An item takes" oneof:"first|every" default:"first" words:"first=the first case that holds; every=every case that holds"`
}

// Case is a way of a branch.
type Case struct {
	Name  string        `form:"name,required" title:"Name" pattern:"^[a-z][a-z0-9_]{0,39}$"`
	When  *expr.Program `form:"when,required" title:"When" example:"item.priority == \"urgent\""`
	Steps form.Steps    `form:"steps" title:"Steps"`
}

var branchKind = tells(New(Info{
	Type: "branch", Title: "Go different ways",
	Words: "if else switch case route decide either or depending path different",
	Help:  "Each item takes the first case that holds, or every one, goes through its steps, and rejoins the others.",
}, func(b *branch) string {
	var parts []string
	for _, c := range b.Cases {
		if c.Name != "" {
			parts = append(parts, c.Name)
		}
	}
	if len(parts) == 0 {
		return "Go different ways … (to fill in)"
	}
	if b.Else != nil {
		parts = append(parts, "else")
	}
	how := "Go one way: "
	if b.Take == "every" {
		how = "Go every way that fits: "
	}
	return how + strings.ReplaceAll(strings.Join(parts, ", "), "_", " ")
}, func(b *branch) (Operator, error) {
	seen := map[string]bool{}
	for i, c := range b.Cases {
		if seen[c.Name] || c.Name == "else" {
			return nil, wrong(fmt.Sprintf("cases[%d].name", i), errors.New("another case is called "+c.Name))
		}
		seen[c.Name] = true
	}
	return b, nil
}), branchTraits)

// Every implements Branch.
func (b *branch) Every() bool { return b.Take == "every" }

// Way implements Branch.
func (b *branch) Way(block int) string {
	if block >= len(b.Cases) {
		return "else"
	}
	return strings.ReplaceAll(b.Cases[block].Name, "_", " ")
}

// Route implements Branch.
func (b *branch) Route(s *expr.Scope) (blocks []int, text string, err error) {
	var taken []string
	for i, c := range b.Cases {
		ok, err := c.When.Holds(s)
		if err != nil {
			return nil, "", wrong(fmt.Sprintf("cases[%d].when", i), err)
		}
		if ok {
			blocks, taken = append(blocks, i), append(taken, strings.ReplaceAll(c.Name, "_", " "))
			if !b.Every() {
				break
			}
		}
	}
	if len(blocks) > 0 {
		return blocks, strings.Join(taken, ", "), nil
	}
	if b.Else != nil {
		return []int{len(b.Cases)}, "else", nil
	}
	return nil, "else", nil
}
