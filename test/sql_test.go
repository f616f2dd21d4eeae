package test

import (
	"database/sql"
	"path/filepath"
	"testing"

	_ "modernc.org/sqlite"
)

// sql asks the service's database; "" where it cannot be asked yet.
func (f folder) sql(t *testing.T, query string) string {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(f.data, "lantern.db")+"?_pragma=busy_timeout(5000)&_pragma=query_only(1)")
	if err != nil {
		return ""
	}
	defer db.Close()
	var out sql.NullString
	db.QueryRow(query).Scan(&out)
	return out.String
}
