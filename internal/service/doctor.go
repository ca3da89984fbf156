package service

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"gullroute/internal/api"
)

// doctorAPI serves what is to be changed on what the service runs on.
type doctorAPI struct{ *Service }

func (s doctorAPI) register(api huma.API) {
	huma.Register(api, read("doctor-database", "/api/v1/doctor/database",
		"What to change on the database server, and why"), s.database)
	huma.Register(api, read(
		"doctor",
		"/api/v1/doctor",
		"Look at all that the node which answers runs on: machine, disks, clock, database, "+
			"names, ports",
	),
		s.everything)
}

func (s doctorAPI) database(ctx context.Context, in *struct {
	Memory int64 `query:"memory" minimum:"0" doc:"Of the database server, in octets; this machine's if not given and the server runs on it"`
}) (*out[api.DatabaseCheck], error) {
	c, err := s.Insight.Tuner.Look(ctx, in.Memory)
	if err != nil {
		return nil, s.storeError(err, "database")
	}
	return &out[api.DatabaseCheck]{c}, nil
}

func (s doctorAPI) everything(ctx context.Context, _ *struct{}) (*out[api.Doctor], error) {
	d, err := s.Insight.Machine.Doctor(ctx)
	if err != nil {
		return nil, s.storeError(err, "database")
	}
	return &out[api.Doctor]{d}, nil
}
