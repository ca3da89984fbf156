package service

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"gullroute/internal/api"
	"gullroute/internal/control"
	"gullroute/internal/core/config"
	"gullroute/internal/core/form"
)

// draftAPI serves the draft.
type draftAPI struct{ *Service }

func (s draftAPI) register(api huma.API) {
	op := operation{}
	section := "/api/v1/setup/{section}"
	huma.Register(
		api,
		read("setup-list", section,
			"A section of the configuration, as the draft has it, or what is in force"),
		s.listItems,
	)
	huma.Register(api, read("setup-show", section+"/{name}", "One item of a section"), s.showItem)
	huma.Register(api, op.post("setup-add", section, "Add an item, in the draft"), s.addItem)
	huma.Register(api,
		op.put("setup-set", section+"/{name}", "Write an item anew, in the draft"), s.setItem)
	huma.Register(
		api,
		op.patch("setup-change", section+"/{name}",
			"Change fields of an item, in the draft; null takes one out"),
		s.changeItem,
	)
	huma.Register(
		api,
		op.post("setup-move", section+"/{name}/move",
			"Put an item at another position, in the draft"),
		s.moveItem,
	)
	huma.Register(api,
		op.remove("setup-remove", section+"/{name}", "Take an item out, in the draft"),
		s.removeItem)
	huma.Register(
		api,
		read("draft", "/api/v1/draft",
			"The draft: what differs from the configuration in force, and who changed it"),
		s.showDraft,
	)
	huma.Register(
		api,
		op.post("draft-apply", "/api/v1/draft/apply",
			"Put the draft in force, if its rehearsal finds nothing dangerous"),
		s.applyDraft,
	)
	huma.Register(
		api,
		op.post("draft-rebase", "/api/v1/draft/rebase",
			"Make the draft's changes anew on what is in force now"),
		s.rebaseDraft,
	)
	huma.Register(api, op.remove("draft-discard", "/api/v1/draft", "Forget the draft"),
		s.discardDraft)
	huma.Register(api,
		op.post("draft-take-back", "/api/v1/draft/take-back",
			"Make the draft that was discarded last the draft again, if there is no other"),
		s.takeBackDraft)
	s.app.Post("/api/v1/draft/rehearse", s.streamRehearsal)
}

// Section names a section in a path.
type Section struct {
	Section string `path:"section" enum:"service,listeners,domains,relay_rules,routes,peers,lists,gates,dns_lists,scanners,dns_servers,certificates"`
}

func (in Section) section() config.Section {
	s, _ := config.FindSection(in.Section)
	return s
}

// ItemPath names an item in a path.
type ItemPath struct {
	Section
	Name string `path:"name"`
}

func (s draftAPI) listItems(ctx context.Context, in *Section) (*out[api.SectionItems], error) {
	sec := in.section()
	items, draft, err := s.Control.Drafts.Items(ctx, sec)
	if err != nil {
		return nil, s.setupError(err, sec, "")
	}
	return &out[api.SectionItems]{
		api.SectionItems{
			Items:   items,
			Fields:  form.FieldsOf(sec.Type),
			Ordered: sec.Ordered,
			Draft:   draft,
		},
	}, nil
}

func (s draftAPI) showItem(ctx context.Context, in *ItemPath) (*out[config.Item], error) {
	sec := in.section()
	items, _, err := s.Control.Drafts.Items(ctx, sec)
	if err != nil {
		return nil, s.setupError(err, sec, in.Name)
	}
	for _, it := range items {
		if config.SameName(sec, it.Name, in.Name) {
			return &out[config.Item]{it}, nil
		}
	}
	return nil, s.setupError(config.ErrNoItem, sec, in.Name)
}

// edit changes the draft by f and answers with the item.
func (s draftAPI) edit(
	ctx context.Context,
	sec config.Section,
	name string,
	dry bool,
	f func(*config.Document) (string, error),
) (*out[api.Edited], error) {
	var item config.Item
	var edited *config.Document
	text, err := s.Control.Drafts.Edit(
		ctx,
		signedIn(ctx).Name,
		dry,
		func(d *config.Document) (string, error) {
			text, err := f(d)
			if err == nil {
				item, _ = d.Item(sec, name)
				edited = d
			}
			return text, err
		},
	)
	if err != nil {
		return nil, s.setupError(named(err, edited, sec, item.Position), sec, name, item.Position)
	}
	return &out[api.Edited]{api.Edited{Text: text, Dry: dry, Item: item}}, nil
}

var itemPath = regexp.MustCompile(`^(\w+)\[(\d+)\]\.`)

// named writes the names of other items in place of their numbers: it is they
// that do not go with the edit.
func named(err error, d *config.Document, own config.Section, position int) error {
	var problems config.Problems
	if !errors.As(err, &problems) || d == nil {
		return err
	}
	out := slices.Clone(problems)
	for i, p := range out {
		m := itemPath.FindStringSubmatch(p.Field)
		if m == nil {
			continue
		}
		sec, ok := config.FindSection(m[1])
		n, _ := strconv.Atoi(m[2])
		if items := d.Items(sec); ok && n < len(items) && (sec.Key != own.Key || n != position-1) {
			out[i].Field = fmt.Sprintf("%s %s, %s", sec.Noun, items[n].Name,
				strings.TrimPrefix(p.Field, m[0]))
		}
	}
	return out
}

func (s draftAPI) addItem(ctx context.Context, in *struct {
	Section
	Body struct {
		Fields   map[string]any `json:"fields"`
		Position int            `json:"position,omitempty" doc:"From 1; the end if not given"`
		Dry      bool           `json:"dry_run,omitempty"`
	}
}) (*out[api.Edited], error) {
	sec := in.section()
	name, _ := in.Body.Fields["name"].(string)
	if sec.Key == config.ServiceSection.Key {
		return nil, huma.Error409Conflict("there is one service; change it with PATCH")
	}
	if name == "" {
		return nil, huma.Error422UnprocessableEntity("the item is not valid; nothing was changed",
			&huma.ErrorDetail{Location: "name", Message: "this field is missing"})
	}
	return s.edit(ctx, sec, name, in.Body.Dry, func(d *config.Document) (string, error) {
		return sec.Noun + " " + name + " added", d.Add(sec, in.Body.Fields, in.Body.Position)
	})
}

// ItemChange is fields to write, and the mark of the item that was seen.
type ItemChange struct {
	Fields map[string]any `json:"fields"`
	Mark   string         `json:"mark,omitempty" doc:"Of the item that was seen: the change is refused if somebody changed it since"`
	Dry    bool           `json:"dry_run,omitempty"`
}

func (s draftAPI) setItem(ctx context.Context, in *struct {
	ItemPath
	Body ItemChange
}) (*out[api.Edited], error) {
	return s.write(ctx, in.ItemPath, in.Body, true)
}

func (s draftAPI) changeItem(ctx context.Context, in *struct {
	ItemPath
	Body ItemChange
}) (*out[api.Edited], error) {
	return s.write(ctx, in.ItemPath, in.Body, false)
}

func (s draftAPI) write(
	ctx context.Context,
	at ItemPath,
	c ItemChange,
	all bool,
) (*out[api.Edited], error) {
	sec := at.section()
	name := at.Name
	if fresh, ok := c.Fields["name"].(string); ok && sec.Key != config.ServiceSection.Key {
		name = fresh
	}
	return s.edit(ctx, sec, name, c.Dry, func(d *config.Document) (string, error) {
		before, err := d.Item(sec, at.Name)
		if err != nil {
			return "", err
		}
		if c.Mark != "" && c.Mark != before.Mark {
			return "", control.ErrMark
		}
		if err := d.Set(sec, before.Name, c.Fields, all); err != nil {
			return "", err
		}
		text := sec.Noun + " " + at.Name + " changed"
		if !config.SameName(sec, name, before.Name) {
			if n := d.Rename(sec, before.Name, name); n > 0 {
				text = fmt.Sprintf("%s %s renamed to %s, in %d places more", sec.Noun, before.Name,
					name, n)
			}
		}
		return text, nil
	})
}

func (s draftAPI) moveItem(ctx context.Context, in *struct {
	ItemPath
	Body struct {
		Position int    `json:"position" minimum:"1"`
		Mark     string `json:"mark,omitempty"`
		Dry      bool   `json:"dry_run,omitempty"`
	}
}) (*out[api.Edited], error) {
	sec := in.section()
	return s.edit(ctx, sec, in.Name, in.Body.Dry, func(d *config.Document) (string, error) {
		before, err := d.Item(sec, in.Name)
		if err == nil && in.Body.Mark != "" && in.Body.Mark != before.Mark {
			err = control.ErrMark
		}
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("%s %s moved to position %d", sec.Noun, in.Name,
			in.Body.Position), d.Move(sec, in.Name, in.Body.Position)
	})
}

func (s draftAPI) removeItem(ctx context.Context, in *struct {
	ItemPath
	Mark string `query:"mark"`
	Dry  bool   `query:"dry_run"`
}) (*out[api.Edited], error) {
	sec := in.section()
	return s.edit(ctx, sec, in.Name, in.Dry, func(d *config.Document) (string, error) {
		before, err := d.Item(sec, in.Name)
		if err == nil && in.Mark != "" && in.Mark != before.Mark {
			err = control.ErrMark
		}
		if err != nil {
			return "", err
		}
		return sec.Noun + " " + in.Name + " removed", d.Remove(sec, in.Name)
	})
}

func (s draftAPI) showDraft(ctx context.Context, in *struct {
	YAML bool `query:"yaml" doc:"With the difference of the texts"`
}) (*out[api.Draft], error) {
	d, err := s.Control.Drafts.State(ctx, in.YAML)
	if err != nil {
		return nil, s.setupError(err, config.ServiceSection, "")
	}
	return &out[api.Draft]{d}, nil
}

func (s draftAPI) applyDraft(ctx context.Context, in *struct {
	Body struct {
		Force         bool   `json:"force,omitempty" doc:"Apply what the rehearsal finds dangerous; needs why"`
		Why           string `json:"why,omitempty" maxLength:"500"`
		ConfirmWithin int    `json:"confirm_within,omitempty" minimum:"0" maximum:"86400" doc:"Seconds after which it goes back by itself unless confirmed"`
		Version       int64  `json:"version,omitempty" doc:"Of the draft that was seen"`
	}
}) (*out[api.Applied], error) {
	b := in.Body
	a, err := s.Control.Drafts.Apply(ctx, signedIn(ctx).Name, control.Apply{
		Force:         b.Force,
		Why:           b.Why,
		ConfirmWithin: time.Duration(b.ConfirmWithin) * time.Second,
		Version:       b.Version,
	})
	if err != nil {
		return nil, s.setupError(err, config.ServiceSection, "")
	}
	s.Insight.Lanes.Forget()
	return &out[api.Applied]{a}, nil
}

func (s draftAPI) rebaseDraft(ctx context.Context, _ *struct{}) (*out[api.Rebased], error) {
	met, err := s.Control.Drafts.Rebase(ctx, signedIn(ctx).Name)
	if err != nil {
		return nil, s.setupError(err, config.ServiceSection, "")
	}
	return &out[api.Rebased]{api.Rebased{Met: met}}, nil
}

func (s draftAPI) takeBackDraft(ctx context.Context, _ *struct{}) (*struct{}, error) {
	if err := s.Control.Drafts.TakeBack(ctx, signedIn(ctx).Name); err != nil {
		return nil, s.setupError(err, config.ServiceSection, "")
	}
	return nil, nil
}

func (s draftAPI) discardDraft(ctx context.Context, in *struct {
	Version int64 `query:"version" doc:"Of the draft that was seen: it stays if somebody changed it since"`
}) (*struct{}, error) {
	if err := s.Control.Drafts.Discard(ctx, signedIn(ctx).Name, in.Version); err != nil {
		return nil, s.setupError(err, config.ServiceSection, "")
	}
	return nil, nil
}
