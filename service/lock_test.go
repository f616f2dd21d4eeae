package service

import (
	"database/sql"

	_ "modernc.org/sqlite"
)

// openLocked keeps others from writing to a database until it is called.
func openLocked(path string) (func() error, error) {
	db, err := sql.Open("sqlite", "file:"+path)
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	if _, err := db.Exec("BEGIN IMMEDIATE"); err != nil {
		return nil, err
	}
	return func() error {
		_, err := db.Exec("ROLLBACK")
		db.Close()
		return err
	}, nil
}
