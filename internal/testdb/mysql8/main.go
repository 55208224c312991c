// Mysql8 serves an empty database in memory that speaks the dialect of MySQL 8, on
// the address that is its argument. Tests start it where no MySQL can be installed.
package main

import (
	"fmt"
	"os"

	sqle "github.com/dolthub/go-mysql-server"
	"github.com/dolthub/go-mysql-server/memory"
	"github.com/dolthub/go-mysql-server/server"
	"github.com/dolthub/go-mysql-server/sql"
)

func main() {
	if err := serve(os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func serve(address string) error {
	db := memory.NewDatabase("bees")
	db.BaseDatabase.EnablePrimaryKeyIndexes()
	provider := memory.NewDBProvider(db)
	engine := sqle.NewDefault(provider)
	s, err := server.NewServer(server.Config{Protocol: "tcp", Address: address}, engine, sql.NewContext, memory.NewSessionBuilder(provider), nil)
	if err != nil {
		return fmt.Errorf("starting the server: %w", err)
	}
	return s.Start()
}
