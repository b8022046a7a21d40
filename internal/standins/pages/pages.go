// Package pages is the stand-in for a few websites: clean, cluttered and very
// long, with HTML as the web has it.
package pages

import (
	"fmt"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"youngtrellis/internal/standins"
)

// New makes the sites.
func New(standins.Setup) *standins.Stand {
	s := standins.Build(standins.Spec{Name: "Pages", About: "Three suppliers' pages: /clean, /cluttered and /long."})
	for path, html := range map[string]string{"/clean": clean, "/cluttered": cluttered(), "/long": long()} {
		s.Engine.GET(path, func(c *gin.Context) { c.Data(http.StatusOK, "text/html; charset=utf-8", []byte(html)) })
	}
	return &standins.Stand{Service: s, Connector: "pages"}
}

const clean = `<!doctype html><html lang="en"><head><meta charset="utf-8"><title>Fernhill Glazes, prices</title></head><body><main><h1>Prices from November</h1>
<p>All prices are for a bucket of ten litres.</p><table><tr><th>glaze</th><th>price</th></tr><tr><td>Celadon</td><td>48.00</td></tr><tr><td>Tenmoku</td><td>52.50</td></tr><tr><td>Shino</td><td>61.00</td></tr></table>
<p>Deliveries to Ottermere are on Tuesdays.</p></main></body></html>`

func cluttered() string {
	var b strings.Builder
	b.WriteString(`<html><head><title>Saltgrass Clay &amp; More</title><script>var tracking = {a: 1}</script><style>.x{display:none}</style></head><body><div class=nav>`)
	for i := range 60 {
		fmt.Fprintf(&b, `<a href="/shop/%d">Offer %d</a> | `, i, i)
	}
	b.WriteString(`</div><div class="popup x">Sign up for our letters!</div><div id=content><h2>Stoneware</h2><p>White stoneware, 12.5 kg bag: <b>14.20</b><br>Black stoneware, 12.5 kg bag: <b>16.80</b><p>From 20 bags on 5 % less.</div><div class=footer>`)
	for i := range 40 {
		fmt.Fprintf(&b, `<span>Link %d</span>`, i)
	}
	return b.String() + `</div></body></html>`
}

func long() string {
	var b strings.Builder
	b.WriteString(`<!doctype html><html><head><title>The whole catalogue</title></head><body><h1>Catalogue</h1>`)
	for i := range 4000 {
		if i%100 == 0 {
			fmt.Fprintf(&b, "<h2>Shelf %d</h2>", i/100+1)
		}
		fmt.Fprintf(&b, "<p>Item %d: glaze number %d, %d.%02d for the kilogram.</p>", i+1, 4000+i, 3+i%9, i%100)
	}
	return b.String() + "</body></html>"
}
