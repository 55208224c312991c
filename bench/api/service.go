// Package api serves the tables of package store over HTTP. Each file has the
// paths of one table and the functions that answer them.
//
// Edits here are kept when it is written again.
package api

import (
	_ "embed" // for openapi.json
	"fmt"

	"widegate/bench/store"
	"widegate/gate"
	"widegate/gate/rest"
)

//go:embed openapi.json
var openAPI []byte

// Service answers requests for the tables. It is an http.Handler.
type Service struct {
	*rest.API

	delivery *rest.Shape[*store.Delivery, int64]
	sample   *rest.Shape[*store.Sample, int64]
}

// New makes the service of a database. What adjust does to its configuration
// goes before what is said here.
func New(db gate.DB, adjust ...func(*rest.Config)) (*Service, error) {
	s := &Service{
		delivery: newDeliveryShape(),
		sample:   newSampleShape(),
	}
	config := rest.Config{
		Base:    "/api",
		DB:      db,
		OpenAPI: openAPI,
		Docs:    true,
		Gather:  true,
	}
	for _, do := range adjust {
		do(&config)
	}
	parts := []rest.Part{
		rest.Mount(s.delivery, s.deliveryRoutes()),
		rest.Mount(s.sample, s.sampleRoutes()),
	}
	var err error
	s.API, err = rest.New(config, parts...)
	if err != nil {
		return nil, fmt.Errorf("making the service: %w", err)
	}
	return s, nil
}
