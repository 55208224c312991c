// Package api serves the tables of package store over HTTP. Each file has the
// paths of one table and the functions that answer them.
//
// Edits here are kept when it is written again.
package api

import (
	_ "embed" // for openapi.json
	"fmt"

	"beekeeping/store"
	"beekeeping/store/gate"
	"beekeeping/store/gate/rest"
)

//go:embed openapi.json
var openAPI []byte

// Service answers requests for the tables. It is an http.Handler.
type Service struct {
	*rest.API

	apiary          *rest.Shape[*store.Apiary, int64]
	apiaryYield     *rest.Shape[*store.ApiaryYield, rest.NoKey]
	batch           *rest.Shape[*store.Batch, int64]
	batchHarvest    *rest.Shape[*store.BatchHarvest, store.BatchHarvestKey]
	batchOrigin     *rest.Shape[*store.BatchOrigin, rest.NoKey]
	forage          *rest.Shape[*store.Forage, int64]
	harvest         *rest.Shape[*store.Harvest, int64]
	hive            *rest.Shape[*store.Hive, int64]
	hiveOverview    *rest.Shape[*store.HiveOverview, rest.NoKey]
	inspection      *rest.Shape[*store.Inspection, int64]
	inspectionPhoto *rest.Shape[*store.InspectionPhoto, int64]
	keeper          *rest.Shape[*store.Keeper, int64]
	queen           *rest.Shape[*store.Queen, int64]
	sensorReading   *rest.Shape[*store.SensorReading, store.SensorReadingKey]
	substance       *rest.Shape[*store.Substance, int64]
	treatment       *rest.Shape[*store.Treatment, int64]
}

// New makes the service of a database. What adjust does to its configuration
// goes before what is said here.
func New(db gate.DB, adjust ...func(*rest.Config)) (*Service, error) {
	s := &Service{
		apiary:          newApiaryShape(),
		apiaryYield:     newApiaryYieldShape(),
		batch:           newBatchShape(),
		batchHarvest:    newBatchHarvestShape(),
		batchOrigin:     newBatchOriginShape(),
		forage:          newForageShape(),
		harvest:         newHarvestShape(),
		hive:            newHiveShape(),
		hiveOverview:    newHiveOverviewShape(),
		inspection:      newInspectionShape(),
		inspectionPhoto: newInspectionPhotoShape(),
		keeper:          newKeeperShape(),
		queen:           newQueenShape(),
		sensorReading:   newSensorReadingShape(),
		substance:       newSubstanceShape(),
		treatment:       newTreatmentShape(),
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
		rest.Mount(s.apiary, s.apiaryRoutes()),
		rest.Mount(s.apiaryYield, s.apiaryYieldRoutes()),
		rest.Mount(s.batch, s.batchRoutes()),
		rest.Mount(s.batchHarvest, s.batchHarvestRoutes()),
		rest.Mount(s.batchOrigin, s.batchOriginRoutes()),
		rest.Mount(s.forage, s.forageRoutes()),
		rest.Mount(s.harvest, s.harvestRoutes()),
		rest.Mount(s.hive, s.hiveRoutes()),
		rest.Mount(s.hiveOverview, s.hiveOverviewRoutes()),
		rest.Mount(s.inspection, s.inspectionRoutes()),
		rest.Mount(s.inspectionPhoto, s.inspectionPhotoRoutes()),
		rest.Mount(s.keeper, s.keeperRoutes()),
		rest.Mount(s.queen, s.queenRoutes()),
		rest.Mount(s.sensorReading, s.sensorReadingRoutes()),
		rest.Mount(s.substance, s.substanceRoutes()),
		rest.Mount(s.treatment, s.treatmentRoutes()),
	}
	var err error
	s.API, err = rest.New(config, parts...)
	if err != nil {
		return nil, fmt.Errorf("making the service: %w", err)
	}
	return s, nil
}
