// Command beekeeping serves the database over HTTP.
//
// This file was written once. It is yours: it is never written again.
package main

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"beekeeping/api"
	"beekeeping/store"
	"beekeeping/store/gate/rest"
	"beekeeping/store/gate/sqlite"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := run(ctx); err != nil {
		fmt.Fprintln(os.Stderr, "beekeeping:", err)
		os.Exit(1)
	}
}

// databaseURL is used where the environment has no DATABASE_URL.
const databaseURL = "sqlite:bees.db"

func run(ctx context.Context) error {
	address := flag.String("address", "127.0.0.1:8080", "where to listen")
	database := flag.String("database", "", "the URL of the database, in place of DATABASE_URL")
	flag.Parse()
	url := cmp.Or(*database, os.Getenv("DATABASE_URL"), sqlite.Find(databaseURL)) // wherever this is started

	db, err := store.Open(ctx, url)
	if err != nil {
		return err
	}
	defer db.Close()
	var adjust []func(*rest.Config)
	if url := os.Getenv("DATABASE_REPLICA_URL"); url != "" { // which answers what only reads
		replica, err := store.Open(ctx, url)
		if err != nil {
			return err
		}
		defer replica.Close()
		adjust = append(adjust, func(c *rest.Config) { c.Replica = replica })
	}
	service, err := api.New(db, adjust...)
	if err != nil {
		return err
	}
	return service.ListenAndServe(ctx, *address)
}
