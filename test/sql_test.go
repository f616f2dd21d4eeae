package test

import (
	"database/sql"
	"path/filepath"
	"strings"
	"testing"

	_ "modernc.org/sqlite"
)

// sql asks the service's database for one column, a row a line; "" where it cannot be
// asked yet.
func (f folder) sql(t *testing.T, query string) string {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(f.data, "lantern.db")+
		"?_pragma=busy_timeout(5000)&_pragma=query_only(1)")
	if err != nil {
		return ""
	}
	defer db.Close()
	rows, err := db.Query(query)
	if err != nil {
		return ""
	}
	defer rows.Close()
	var out []string
	for rows.Next() {
		var x sql.NullString
		if rows.Scan(&x) == nil {
			out = append(out, x.String)
		}
	}
	return strings.Join(out, "\n")
}
