package steps

import (
	"strings"

	"youngtrellis/internal/core/connector"
)

var sqlKind = tells(New(Info{
	Type: "sql", Title: "Ask a database",
	Words: "database query select postgres rows table report", Does: DoesCalls, Connects: true, Needs: "postgres",
	Help: "Asks a PostgreSQL database in a read-only transaction. Each row becomes an item.",
}, sqlSentence, func(q *connector.Query) (Operator, error) { return called(q.Action()) }), func(*connector.Query) Traits {
	return Traits{Decides: map[string]string{"query": "becomes part of a query"}}
})

func sqlSentence(q *connector.Query) string {
	words := strings.Fields(q.Query)
	for i, w := range words {
		if strings.EqualFold(w, "from") && i+1 < len(words) {
			return "Read rows of " + strings.Trim(words[i+1], ",;()") + " from the database"
		}
	}
	return "Ask the database"
}
