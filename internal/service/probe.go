package service

import (
	"context"
	"errors"

	"github.com/danielgtaylor/huma/v2"

	"gullroute/internal/control"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/probe"
)

// probeAPI serves probes.
type probeAPI struct{ *Service }

func (s probeAPI) register(api huma.API) {
	admin := operation{admin: true}
	huma.Register(
		api,
		admin.post("probe", "/api/v1/probe",
			"Converse live with a host, a domain's hosts, or our own listeners, step by step"),
		s.probe,
	)
}

func (s probeAPI) probe(ctx context.Context, in *struct {
	Body struct {
		Target  string   `json:"target,omitempty" doc:"A host, host:port, a domain or an address"`
		Routes  []string `json:"routes,omitempty" maxItems:"4" doc:"By whose terms; the one that a message would take if none is named"`
		Sources []string `json:"sources,omitempty" maxItems:"4" doc:"Addresses of ours to connect from"`
		From    string   `json:"from,omitempty" doc:"The sender that is asked about; the postmaster if not given, <> for the null sender"`
		Message bool     `json:"message,omitempty" doc:"Send a small real message to the address"`
		Inwards string   `json:"inwards,omitempty" doc:"A listener of ours to probe in place of a target, with attempts to relay; * is all of them"`
		Client  string   `json:"client,omitempty" doc:"With inwards: an address of this machine to come from"`
	}
}) (*out[probe.Probe], error) {
	b := in.Body
	if (b.Target == "") == (b.Inwards == "") {
		return nil, huma.Error422UnprocessableEntity(
			"target: give a target, or inwards for our own listeners",
		)
	}
	p, err := s.Control.Prober.Probe(ctx, control.ProbeOrder{
		Target:  b.Target,
		Routes:  b.Routes,
		Sources: b.Sources,
		From:    b.From,
		Message: b.Message,
		Inwards: b.Inwards,
		Client:  b.Client,
	})
	if errors.Is(err, fault.ErrInput) {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	if err != nil {
		return nil, s.storeError(err, "probe")
	}
	return &out[probe.Probe]{p}, nil
}
