package service

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"runtime"
	"time"

	"github.com/danielgtaylor/huma/v2"
)

// bundleAPI serves the support bundle.
type bundleAPI struct{ *Service }

// maxBundled bounds the messages and snags of a support bundle.
const maxBundled = 100

func (s bundleAPI) register(api huma.API) {
	op := operation{}.make(
		http.MethodGet,
		"bundle",
		"/api/v1/bundle",
		"A support bundle: settings without secrets, versions, health, lanes, snags, review, "+
			"readiness, and the path of chosen messages",
	)
	op.Responses = map[string]*huma.Response{
		"200": {
			Description: "A zip archive",
			Content:     map[string]*huma.MediaType{"application/zip": {}},
		},
	}
	huma.Register(api, op, s.bundle)
}

type bundleAnswer struct {
	ContentType string `header:"Content-Type"`
	Body        []byte
}

func (s bundleAPI) bundle(ctx context.Context, in *struct {
	Messages []string `query:"message,explode" maxItems:"100" doc:"Ids of messages whose path goes with it; their content never does"`
	Whole    bool     `query:"whole" doc:"Addresses and subjects as they are; masked if not given"`
}) (*bundleAnswer, error) {
	m := mask{addresses: !in.Whole, subjects: !in.Whole}
	var file bytes.Buffer
	b := &bundler{z: zip.NewWriter(&file), m: m}
	cfg := s.InForce.Config()
	rev, err := s.Control.Drafts.Latest(ctx)
	if err != nil {
		return nil, s.storeError(err, "configuration")
	}
	b.text(
		"read-me.txt",
		fmt.Sprintf(
			"A support bundle of %s, made %s.\nGull Route %s, %s %s/%s, node %s, revision %d.\nNo "+
				"password, key or content of a message is in it; addresses are %s.\n",
			cfg.Service.HostName,
			time.Now().UTC().Format(time.RFC3339),
			Version,
			runtime.Version(),
			runtime.GOOS,
			runtime.GOARCH,
			s.InForce.Node,
			rev.Number,
			map[bool]string{true: "whole", false: "masked"}[in.Whole],
		),
	)
	b.text("configuration.yaml", rev.Text)
	status, err := statusAPI(s).status(ctx, nil)
	b.part("health.json", err, func() any { return status.Body })
	nodes, err := queueAPI(s).listNodes(ctx, nil)
	b.part("nodes.json", err, func() any { return nodes.Body.Items })
	lanes, err := s.Insight.Lanes.Stored(ctx)
	b.part("lanes.json", err, func() any { return lanes })
	snags, err := snagAPI(s).listSnags(ctx,
		&snagsInput{State: "open", Muted: true, Parts: true, Paging: Paging{Limit: maxBundled}})
	b.part("snags.json", err, func() any { return snags.Body.Items })
	weak, err := s.Insight.Reviewer.Review(ctx, cfg)
	b.part("review.json", err, func() any { return weak })
	ready, err := s.Insight.Readiness.All(ctx)
	b.part("readiness.json", err, func() any { return ready })
	keys, err := s.Control.Keys.List(ctx, "")
	b.part("dkim.json", err, func() any { return keys })
	for _, id := range in.Messages {
		way, err := traceAPI(s).showMessage(ctx, &oneOf{ID: id})
		b.part("messages/"+id+".json", err, func() any { return way.Body })
	}
	if b.err == nil {
		b.err = b.z.Close()
	}
	if b.err != nil {
		return nil, b.err
	}
	return &bundleAnswer{"application/zip", file.Bytes()}, nil
}

// bundler writes the files of a bundle. What cannot be read is noted in its place.
type bundler struct {
	z   *zip.Writer
	m   mask
	err error
}

func (b *bundler) text(name, text string) { b.write(name, []byte(b.m.text(text))) }

func (b *bundler) part(name string, err error, value func() any) {
	if err != nil {
		b.text(name+".missing.txt", err.Error()+"\n")
		return
	}
	text, err := json.MarshalIndent(value(), "", "  ")
	if err != nil {
		b.err = err
		return
	}
	b.write(name, b.m.json(text))
}

func (b *bundler) write(name string, data []byte) {
	if b.err != nil {
		return
	}
	w, err := b.z.CreateHeader(
		&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: time.Now()},
	)
	if err == nil {
		_, err = w.Write(data)
	}
	b.err = err
}
