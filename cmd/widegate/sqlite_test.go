package main

import (
	"database/sql"

	"github.com/rogpeppe/go-internal/testscript"
	_ "modernc.org/sqlite" // the driver of the scripts' databases
)

// runSQLite runs SQL in a database file, which it makes where there is none:
// sqlite FILE 'SQL', or sqlite FILE @SCRIPT.
func runSQLite(ts *testscript.TestScript, _ bool, args []string) {
	text := args[1]
	if text[0] == '@' {
		text = ts.ReadFile(text[1:])
	}
	db, err := sql.Open("sqlite", ts.MkAbs(args[0]))
	ts.Check(err)
	defer db.Close()
	_, err = db.Exec(text)
	ts.Check(err)
}
