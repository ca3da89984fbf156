package service

import (
	"context"
	"errors"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"gullroute/internal/control"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/probe"
)

// probeAPI serves probes.
type probeAPI struct{ *Service }

func (s probeAPI) register(api huma.API) {
	op := operation{}
	huma.Register(
		api,
		op.post("probe", "/api/v1/probe",
			"Converse live with a host, a domain's hosts, or our own listeners, step by step"),
		s.probe,
	)
	s.app.Post("/api/v1/probe/live", s.streamProbe)
}

// ProbeBody is what to probe.
type ProbeBody struct {
	Target  string   `json:"target,omitempty" doc:"A host, host:port, a domain or an address"`
	Routes  []string `json:"routes,omitempty" maxItems:"4" doc:"By whose terms; the one that a message would take if none is named"`
	Sources []string `json:"sources,omitempty" maxItems:"4" doc:"Addresses of ours to connect from"`
	From    string   `json:"from,omitempty" doc:"The sender that is asked about; the postmaster if not given, <> for the null sender"`
	Message bool     `json:"message,omitempty" doc:"Send a small real message to the address"`
	Inwards string   `json:"inwards,omitempty" doc:"A listener of ours to probe in place of a target, with attempts to relay; * is all of them"`
	Client  string   `json:"client,omitempty" doc:"With inwards: an address of this machine to come from"`
}

func (s probeAPI) probe(
	ctx context.Context,
	in *struct{ Body ProbeBody },
) (*out[probe.Probe], error) {
	p, err := s.run(ctx, in.Body, nil)
	if err != nil {
		return nil, err
	}
	return &out[probe.Probe]{p}, nil
}

// run probes; heard is told of each step when it is over, unless it is nil.
func (s probeAPI) run(
	ctx context.Context,
	b ProbeBody,
	heard func(host string, step probe.ProbeStep),
) (probe.Probe, error) {
	if (b.Target == "") == (b.Inwards == "") {
		return probe.Probe{}, huma.Error422UnprocessableEntity(
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
		Heard:   heard,
	})
	if errors.Is(err, fault.ErrInput) {
		return p, huma.Error422UnprocessableEntity(err.Error())
	}
	if err != nil {
		return p, s.storeError(err, "probe")
	}
	return p, nil
}

// heardStep is a step of a probe that is under way.
type heardStep struct {
	Host string          `json:"host,omitempty"`
	Step probe.ProbeStep `json:"step"`
}

// stream probes and tells of each step as it is over.
func (s probeAPI) streamProbe(c fiber.Ctx) error {
	w, err := s.require(c, "probe-live")
	if err != nil {
		return err
	}
	var b ProbeBody
	if err := decodeStrict(c.Body(), &b); err != nil {
		return fiber.NewError(fiber.StatusUnprocessableEntity, err.Error())
	}
	return s.stream(c, w, func(ctx context.Context, tell func(line)) (any, error) {
		return s.run(ctx, b, func(host string, step probe.ProbeStep) {
			tell(line{Step: &heardStep{host, step}})
		})
	})
}
