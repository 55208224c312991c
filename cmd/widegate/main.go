// Command widegate reads a database schema and writes typed entities, query
// code and REST endpoints for it.
package main

import (
	"os"

	"widegate/internal/cli"
)

func main() { os.Exit(cli.Run(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
