package expr

import (
	"errors"
	"fmt"
	"html"
	"net/url"
	"slices"
	"strings"

	"codeberg.org/readeck/go-readability/v2"
	markdown "github.com/JohannesKaufmann/html-to-markdown/v2"
	"github.com/JohannesKaufmann/html-to-markdown/v2/converter"
	"github.com/PuerkitoBio/goquery"
	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/extension"
	nodes "golang.org/x/net/html"
	"golang.org/x/net/html/atom"
)

const parsing = 8 // bytes of a page that are read in one step

var pageFunctions = group("html and pages",
	fn("html_text(html: text) text", "The text of a page as one reads it: a line for each paragraph, heading and row, without scripts and what is hidden.", `html_text("<p>Cone <b>9</b></p><p>Slow</p>")`, `"Cone 9\nSlow"`, page(func(m *machine, doc *goquery.Document, _ args) (any, error) { return readable(doc.Nodes), nil }), costs(parsing), takes(16), found("strip tags plain text website email body"), byOthers),
	fn("html_outline(html: text) list", "The headings and paragraphs of a page in their order, each with its kind (h1 to h6, p, li, quote, code) and text.", `html_outline("<h1>Kilns</h1><p>Two.</p>")`, `[{"kind":"h1","text":"Kilns"},{"kind":"p","text":"Two."}]`, page(outline), costs(parsing), takes(28), found("structure sections headings paragraphs"), byOthers),
	fn("html_links(html: text, base?: text) list", "The links of a page, each with its text and address; addresses that are relative are completed with the base.", `html_links("<a href='/kilns'>Our kilns</a>", "https://ottermere.example/")`, `[{"text":"Our kilns","url":"https://ottermere.example/kilns"}]`, page(links), costs(parsing), takes(24), fails("the base is no address"), found("urls anchors href extract"), byOthers),
	fn("html_table(html: text, n?: whole) list", "The rows of a page's n-th table, counted from 0, as objects with the names of its first row.", `html_table("<table><tr><th>Cone</th></tr><tr><td>9</td></tr></table>")`, `[{"Cone":"9"}]`, page(table0), costs(parsing), takes(28), fails("the page has no such table"), found("rows columns grid scrape"), byOthers),
	fn("main_content(html: text, address?: text) object", "What a page is about, without its menus and footers: title, by, text and html.", `main_content("<nav>Menu</nav><article><p>Slow cooling, one hundred degrees an hour, is what keeps large pieces whole; faster firings of platters have cracked in every second load so far.</p></article>").text`, `"Slow cooling, one hundred degrees an hour, is what keeps large pieces whole; faster firings of platters have cracked in every second load so far."`, mainContent, costs(2), takes(600), fails("nothing on the page reads as content"), found("article readability body reader"), byOthers),
	fn("markdown(html: text, base?: text) text", "A page as Markdown (CommonMark).", `markdown("<h2>Kilns</h2><p>Two <b>large</b>.</p>")`, `"## Kilns\n\nTwo **large**."`, toMarkdown, costs(parsing), takes(70), found("convert html to md text"), byOthers),
	fn("from_markdown(text: text) text", "Markdown (CommonMark, with tables) as HTML; HTML within it is left out.", `from_markdown("Two **large** kilns")`, `"<p>Two <strong>large</strong> kilns</p>\n"`, fromMarkdown, costs(parsing), takes(16), found("convert md to html"), byOthers),
	fn("escape(text: text) text", "Text as it stands in HTML, its signs harmless.", `escape("Ash & <sand>")`, `"Ash &amp; &lt;sand&gt;"`, text1(html.EscapeString), found("html entities safe")),
	fn("unescape(text: text) text", "Text out of HTML's way of writing signs.", `unescape("Ash &amp; sand")`, `"Ash & sand"`, text1(html.UnescapeString), found("html entities decode")),
)

// deepestPage bounds how deep a page may be nested, before it is read.
const deepestPage = 400

// page makes a function of a page that is read.
func page(work func(m *machine, doc *goquery.Document, a args) (any, error)) func(*machine, args) (any, error) {
	return func(m *machine, a args) (any, error) {
		doc, err := m.page(a.text(0))
		if err != nil {
			return nil, err
		}
		return work(m, doc, a)
	}
}

func (m *machine) page(source string) (*goquery.Document, error) {
	if err := m.charge(0, 12*len(source)); err != nil {
		return nil, err
	}
	root, err := nodes.Parse(strings.NewReader(source))
	if err != nil {
		return nil, errors.New("the page cannot be read")
	}
	if depth(root) > deepestPage {
		return nil, fmt.Errorf("the page is nested deeper than %d levels", deepestPage)
	}
	return goquery.NewDocumentFromNode(root), nil
}

// depth goes through a page without recursion, which the page could exhaust.
func depth(root *nodes.Node) int {
	deepest, d := 0, 0
	for n := root; n != nil; {
		deepest = max(deepest, d)
		if n.FirstChild != nil {
			n, d = n.FirstChild, d+1
			continue
		}
		for n != nil && n != root && n.NextSibling == nil {
			n, d = n.Parent, d-1
		}
		if n == nil || n == root {
			break
		}
		n = n.NextSibling
	}
	return deepest
}

// unseen are elements whose text nobody reads.
var unseen = []atom.Atom{atom.Script, atom.Style, atom.Noscript, atom.Template, atom.Head, atom.Svg, atom.Iframe, atom.Object}

// blocks are elements that begin a line.
var blockElements = []atom.Atom{
	atom.P, atom.Div, atom.Section, atom.Article, atom.Header, atom.Footer, atom.Main, atom.Aside, atom.Nav, atom.H1, atom.H2, atom.H3, atom.H4, atom.H5, atom.H6,
	atom.Ul, atom.Ol, atom.Li, atom.Dl, atom.Dt, atom.Dd, atom.Table, atom.Tr, atom.Blockquote, atom.Pre, atom.Figure, atom.Figcaption, atom.Form, atom.Fieldset, atom.Hr, atom.Address,
}

func hidden(n *nodes.Node) bool {
	if n.Type == nodes.CommentNode || n.Type == nodes.ElementNode && slices.Contains(unseen, n.DataAtom) {
		return true
	}
	for _, a := range n.Attr {
		style := strings.ReplaceAll(strings.ToLower(a.Val), " ", "")
		if a.Key == "hidden" || a.Key == "style" && (strings.Contains(style, "display:none") || strings.Contains(style, "visibility:hidden")) {
			return true
		}
	}
	return false
}

// readable is the text of nodes as one reads it.
func readable(list []*nodes.Node) string {
	var out strings.Builder
	gap := false // a blank is wanted before the next word
	line := func() {
		if s := out.String(); s != "" && !strings.HasSuffix(s, "\n") {
			out.WriteByte('\n')
		}
		gap = false
	}
	var walk func(n *nodes.Node, as bool)
	walk = func(n *nodes.Node, as bool) {
		if hidden(n) {
			return
		}
		switch n.Type {
		case nodes.TextNode:
			if as {
				out.WriteString(n.Data)
				return
			}
			words := strings.Fields(n.Data)
			if len(words) == 0 {
				gap = gap || n.Data != ""
				return
			}
			space := func(c byte) bool { return strings.IndexByte(" \t\r\n", c) >= 0 }
			if s := out.String(); (gap || space(n.Data[0])) && s != "" && s[len(s)-1] != '\n' && s[len(s)-1] != '\t' {
				out.WriteByte(' ')
			}
			out.WriteString(strings.Join(words, " "))
			gap = space(n.Data[len(n.Data)-1])
			return
		case nodes.ElementNode:
			switch n.DataAtom {
			case atom.Br:
				out.WriteByte('\n')
				gap = false
				return
			case atom.Td, atom.Th:
				if s := out.String(); s != "" && !strings.HasSuffix(s, "\n") {
					out.WriteByte('\t')
					gap = false
				}
			}
			if slices.Contains(blockElements, n.DataAtom) {
				line()
				defer line()
			}
			as = as || n.DataAtom == atom.Pre
		}
		for c := n.FirstChild; c != nil; c = c.NextSibling {
			walk(c, as)
		}
	}
	for _, n := range list {
		walk(n, false)
	}
	return strings.TrimSpace(out.String())
}

var outlineKinds = map[string]string{"h1": "h1", "h2": "h2", "h3": "h3", "h4": "h4", "h5": "h5", "h6": "h6", "p": "p", "li": "li", "blockquote": "quote", "pre": "code", "dt": "li", "dd": "li", "figcaption": "p"}

func outline(m *machine, doc *goquery.Document, _ args) (any, error) {
	out := []any{}
	doc.Find("h1, h2, h3, h4, h5, h6, p, li, blockquote, pre, dt, dd, figcaption").Each(func(_ int, s *goquery.Selection) {
		for n := s.Nodes[0]; n != nil; n = n.Parent {
			if hidden(n) {
				return
			}
		}
		if name := goquery.NodeName(s); (name == "li" || name == "blockquote") && s.Find("p, li").Length() > 0 {
			return // what is in it has lines of its own
		}
		if text := strings.Join(strings.Fields(readable(s.Nodes)), " "); text != "" {
			out = append(out, map[string]any{"kind": outlineKinds[goquery.NodeName(s)], "text": text})
		}
	})
	return out, m.charge(0, 128*len(out))
}

func links(m *machine, doc *goquery.Document, a args) (any, error) {
	base, err := baseOf(doc, a.text(1))
	if err != nil {
		return nil, err
	}
	out := []any{}
	doc.Find("a[href], area[href]").Each(func(_ int, s *goquery.Selection) {
		href := strings.TrimSpace(s.AttrOr("href", ""))
		u, err := url.Parse(href)
		if err != nil || href == "" || strings.HasPrefix(strings.ToLower(href), "javascript:") {
			return
		}
		if base != nil {
			u = base.ResolveReference(u)
		}
		text := strings.Join(strings.Fields(readable(s.Nodes)), " ")
		if text == "" {
			text = strings.TrimSpace(s.AttrOr("title", s.Find("img").AttrOr("alt", "")))
		}
		out = append(out, map[string]any{"text": text, "url": u.String()})
	})
	return out, m.charge(0, 160*len(out))
}

func baseOf(doc *goquery.Document, given string) (*url.URL, error) {
	if given == "" {
		given = doc.Find("base[href]").AttrOr("href", "")
	}
	if given == "" {
		return nil, nil
	}
	u, err := url.Parse(strings.TrimSpace(given))
	if err != nil || !u.IsAbs() {
		return nil, fmt.Errorf("the base %s is no whole address; it is written as https://ottermere.example/", quote(given))
	}
	return u, nil
}

func table0(m *machine, doc *goquery.Document, a args) (any, error) {
	tables := doc.Find("table")
	n := bounded(a.whole(1, 0))
	if n < 0 || n >= tables.Length() {
		return nil, fmt.Errorf("the page has %d tables, and none has the number %d; they are counted from 0", tables.Length(), n)
	}
	out := []any{}
	var names []string
	t := tables.Eq(n)
	t.Find("tr").Each(func(_ int, row *goquery.Selection) {
		if row.Closest("table").Nodes[0] != t.Nodes[0] {
			return // of a table within it
		}
		var cells []string
		row.ChildrenFiltered("td, th").Each(func(_ int, c *goquery.Selection) {
			cells = append(cells, strings.Join(strings.Fields(readable(c.Nodes)), " "))
		})
		switch {
		case len(cells) == 0:
		case names == nil:
			names = columnNames(cells)
		default:
			o := map[string]any{}
			for i, c := range cells[:min(len(cells), len(names))] {
				o[names[i]] = c
			}
			out = append(out, o)
		}
	})
	return out, m.charge(0, 64*len(out)*(len(names)+1))
}

// columnNames gives every column a name of its own.
func columnNames(cells []string) []string {
	seen := map[string]bool{}
	out := make([]string, len(cells))
	for i, c := range cells {
		name := c
		if name == "" {
			name = fmt.Sprintf("column %d", i+1)
		}
		for n := 2; seen[name]; n++ {
			name = fmt.Sprintf("%s %d", c, n)
		}
		seen[name] = true
		out[i] = name
	}
	return out
}

func mainContent(m *machine, a args) (any, error) {
	doc, err := m.page(a.text(0))
	if err != nil {
		return nil, err
	}
	var at *url.URL
	if a.has(1) {
		u, err := url.Parse(a.text(1))
		if err != nil || !u.IsAbs() {
			return nil, fmt.Errorf("%s is no whole address", show(a.text(1)))
		}
		at = u
	}
	article, err := readability.FromDocument(doc.Nodes[0], at)
	if err != nil || article.Node == nil {
		return nil, errors.New("nothing on the page reads as content")
	}
	var body strings.Builder
	if err := article.RenderHTML(&body); err != nil {
		return nil, errors.New("nothing on the page reads as content")
	}
	out := map[string]any{"title": article.Title(), "by": article.Byline(), "text": readable([]*nodes.Node{article.Node}), "html": body.String()}
	return out, m.charge(0, 2*body.Len())
}

func toMarkdown(m *machine, a args) (any, error) {
	doc, err := m.page(a.text(0))
	if err != nil {
		return nil, err
	}
	base, err := baseOf(doc, a.text(1))
	if err != nil {
		return nil, err
	}
	var options []converter.ConvertOptionFunc
	if base != nil {
		options = append(options, converter.WithDomain(base.Scheme+"://"+base.Host))
	}
	out, err := markdown.ConvertNode(doc.Nodes[0], options...)
	if err != nil {
		return nil, errors.New("the page cannot be written as Markdown")
	}
	return string(out), m.charge(0, len(out))
}

var commonMark = goldmark.New(goldmark.WithExtensions(extension.Table, extension.Strikethrough))

func fromMarkdown(m *machine, a args) (any, error) {
	if err := m.charge(0, 8*len(a.text(0))); err != nil {
		return nil, err
	}
	var out strings.Builder
	if err := commonMark.Convert([]byte(a.text(0)), &out); err != nil {
		return nil, errors.New("the text cannot be read as Markdown")
	}
	return out.String(), m.charge(0, out.Len())
}
