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

	"gullroute/internal/control"
	"gullroute/internal/core/config"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/form"
	"gullroute/internal/core/mail"
)

// setupOperations are those on the configuration: sections, draft, revisions.
func (s *Service) setupOperations(api huma.API) {
	admin := operation{admin: true}
	section := "/api/v1/setup/{section}"
	huma.Register(api, read("setup-list", section, "A section of the configuration, as the draft has it, or what is in force"), s.listItems)
	huma.Register(api, read("setup-show", section+"/{name}", "One item of a section"), s.showItem)
	huma.Register(api, admin.post("setup-add", section, "Add an item, in the draft"), s.addItem)
	huma.Register(api, admin.put("setup-set", section+"/{name}", "Write an item anew, in the draft"), s.setItem)
	huma.Register(api, admin.patch("setup-change", section+"/{name}", "Change fields of an item, in the draft; null takes one out"), s.changeItem)
	huma.Register(api, admin.post("setup-move", section+"/{name}/move", "Put an item at another place, in the draft"), s.moveItem)
	huma.Register(api, admin.remove("setup-remove", section+"/{name}", "Take an item out, in the draft"), s.removeItem)
	huma.Register(api, read("draft", "/api/v1/draft", "The draft: what differs from the configuration in force, and who changed it"), s.showDraft)
	huma.Register(api, admin.post("draft-apply", "/api/v1/draft/apply", "Put the draft in force, if its rehearsal finds nothing dangerous"), s.applyDraft)
	huma.Register(api, admin.post("draft-rebase", "/api/v1/draft/rebase", "Make the draft's changes anew on what is in force now"), s.rebaseDraft)
	huma.Register(api, admin.remove("draft-discard", "/api/v1/draft", "Forget the draft"), s.discardDraft)
	huma.Register(api, read("revisions", "/api/v1/revisions", "Configurations that were applied, newest first"), s.listRevisions)
	huma.Register(api, read("revision", "/api/v1/revisions/{number}", "One revision, and what it changed"), s.showRevision)
	huma.Register(api, admin.post("revision-revert", "/api/v1/revisions/{number}/revert", "Go back to a revision, at once"), s.revert)
	huma.Register(api, admin.post("revision-confirm", "/api/v1/revisions/{number}/confirm", "Keep a revision that would go back by itself"), s.confirm)
	huma.Register(api, read("config", "/api/v1/config", "Configuration and directory as one text, secrets removed"), s.exportConfig)
	huma.Register(api, admin.post("config-export-secrets", "/api/v1/config/with-secrets", "Configuration and directory as one text, hashes and passwords included"), s.exportSecrets)
	huma.Register(api, operation{}.post("config-check", "/api/v1/config/check", "Check a configuration; nothing changes"), s.checkConfig)
	huma.Register(api, admin.put("config-import", "/api/v1/config", "Take a whole text as the draft"), s.importConfig)
}

// Section names a section in a path.
type Section struct {
	Section string `path:"section" enum:"service,listeners,domains,relay_rules,routes,peers"`
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

func (s *Service) listItems(ctx context.Context, in *Section) (*out[mail.SectionItems], error) {
	sec := in.section()
	items, draft, err := s.Control.Drafts.Items(ctx, sec)
	if err != nil {
		return nil, s.setupError(err, sec, "")
	}
	return &out[mail.SectionItems]{mail.SectionItems{Items: items, Fields: form.FieldsOf(sec.Type), Ordered: sec.Ordered, Draft: draft}}, nil
}

func (s *Service) showItem(ctx context.Context, in *ItemPath) (*out[config.Item], error) {
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

// Edited is what an edit of the draft did.
type Edited struct {
	Text string      `json:"text" doc:"What was done, in words"`
	Dry  bool        `json:"dry_run" doc:"Nothing was changed"`
	Item config.Item `json:"item" doc:"As it is now"`
}

// edit changes the draft by f and answers with the item.
func (s *Service) edit(ctx context.Context, sec config.Section, name string, dry bool, f func(*config.Document) (string, error)) (*out[Edited], error) {
	var item config.Item
	var edited *config.Document
	text, err := s.Control.Drafts.Edit(ctx, signedIn(ctx).Name, dry, func(d *config.Document) (string, error) {
		text, err := f(d)
		if err == nil {
			item, _ = d.Item(sec, name)
			edited = d
		}
		return text, err
	})
	if err != nil {
		return nil, s.setupError(named(err, edited, sec, item.Place), sec, name, item.Place)
	}
	return &out[Edited]{Edited{text, dry, item}}, nil
}

var itemPath = regexp.MustCompile(`^(\w+)\[(\d+)\]\.`)

// named writes the names of other items in place of their numbers: it is they
// that do not go with the edit.
func named(err error, d *config.Document, own config.Section, place int) error {
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
		if items := d.Items(sec); ok && n < len(items) && (sec.Key != own.Key || n != place-1) {
			out[i].Field = fmt.Sprintf("%s %s, %s", sec.Noun, items[n].Name, strings.TrimPrefix(p.Field, m[0]))
		}
	}
	return out
}

func (s *Service) addItem(ctx context.Context, in *struct {
	Section
	Body struct {
		Fields map[string]any `json:"fields"`
		Place  int            `json:"place,omitempty" doc:"From 1; the end if not given"`
		Dry    bool           `json:"dry_run,omitempty"`
	}
}) (*out[Edited], error) {
	sec := in.section()
	name, _ := in.Body.Fields["name"].(string)
	if sec.Key == config.ServiceSection.Key {
		return nil, huma.Error409Conflict("there is one service; change it with PATCH")
	}
	if name == "" {
		return nil, huma.Error422UnprocessableEntity("the item is not valid; nothing was changed", &huma.ErrorDetail{Location: "name", Message: "this field is missing"})
	}
	return s.edit(ctx, sec, name, in.Body.Dry, func(d *config.Document) (string, error) {
		return sec.Noun + " " + name + " added", d.Add(sec, in.Body.Fields, in.Body.Place)
	})
}

// ItemChange is fields to write, and the mark of the item that was seen.
type ItemChange struct {
	Fields map[string]any `json:"fields"`
	Mark   string         `json:"mark,omitempty" doc:"Of the item that was seen: the change is refused if somebody changed it since"`
	Dry    bool           `json:"dry_run,omitempty"`
}

func (s *Service) setItem(ctx context.Context, in *struct {
	ItemPath
	Body ItemChange
}) (*out[Edited], error) {
	return s.write(ctx, in.ItemPath, in.Body, true)
}

func (s *Service) changeItem(ctx context.Context, in *struct {
	ItemPath
	Body ItemChange
}) (*out[Edited], error) {
	return s.write(ctx, in.ItemPath, in.Body, false)
}

func (s *Service) write(ctx context.Context, at ItemPath, c ItemChange, all bool) (*out[Edited], error) {
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
				text = fmt.Sprintf("%s %s renamed to %s, in %d places more", sec.Noun, before.Name, name, n)
			}
		}
		return text, nil
	})
}

func (s *Service) moveItem(ctx context.Context, in *struct {
	ItemPath
	Body struct {
		Place int    `json:"place" minimum:"1"`
		Mark  string `json:"mark,omitempty"`
		Dry   bool   `json:"dry_run,omitempty"`
	}
}) (*out[Edited], error) {
	sec := in.section()
	return s.edit(ctx, sec, in.Name, in.Body.Dry, func(d *config.Document) (string, error) {
		before, err := d.Item(sec, in.Name)
		if err == nil && in.Body.Mark != "" && in.Body.Mark != before.Mark {
			err = control.ErrMark
		}
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("%s %s moved to place %d", sec.Noun, in.Name, in.Body.Place), d.Move(sec, in.Name, in.Body.Place)
	})
}

func (s *Service) removeItem(ctx context.Context, in *struct {
	ItemPath
	Mark string `query:"mark"`
	Dry  bool   `query:"dry_run"`
}) (*out[Edited], error) {
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

// setupError tells what is wrong with an edit. Fields of the item at place lose
// the path before them.
func (s *Service) setupError(err error, sec config.Section, name string, place ...int) error {
	var problems config.Problems
	var blocked *control.Blocked
	switch {
	case errors.As(err, &problems):
		own := sec.Key + "."
		if len(place) > 0 && sec.Key != config.ServiceSection.Key {
			own = fmt.Sprintf("%s[%d].", sec.Key, place[0]-1)
		}
		var details []error
		for _, p := range problems {
			details = append(details, &huma.ErrorDetail{Location: strings.TrimPrefix(p.Field, own), Message: p.Text})
		}
		return huma.Error422UnprocessableEntity("this is not valid; nothing was changed", details...)
	case errors.Is(err, config.ErrNoItem):
		return huma.Error404NotFound(fmt.Sprintf("there is no %s %q", sec.Noun, name))
	case errors.Is(err, config.ErrIsThere):
		return huma.Error409Conflict(fmt.Sprintf("there is a %s of that name already", sec.Noun))
	case errors.As(err, &blocked):
		var details []error
		for _, why := range blocked.Why {
			details = append(details, &huma.ErrorDetail{Message: why})
		}
		return huma.Error409Conflict("this draft is applied only by force, with a reason", details...)
	case errors.Is(err, control.ErrMark), errors.Is(err, control.ErrStale), errors.Is(err, control.ErrNoWhy):
		return huma.Error409Conflict(err.Error())
	case errors.Is(err, control.ErrNoDraft), errors.Is(err, fault.ErrNotFound):
		return huma.Error404NotFound(err.Error())
	}
	if strings.HasPrefix(err.Error(), "there are places") {
		return huma.Error422UnprocessableEntity(err.Error())
	}
	return s.storeError(err, sec.Noun)
}

func (s *Service) showDraft(ctx context.Context, in *struct {
	YAML bool `query:"yaml" doc:"With the difference of the texts"`
}) (*out[mail.Draft], error) {
	d, err := s.Control.Drafts.State(ctx, in.YAML)
	if err != nil {
		return nil, s.setupError(err, config.ServiceSection, "")
	}
	return &out[mail.Draft]{d}, nil
}

func (s *Service) applyDraft(ctx context.Context, in *struct {
	Body struct {
		Force         bool   `json:"force,omitempty" doc:"Apply what the rehearsal finds dangerous; needs why"`
		Why           string `json:"why,omitempty" maxLength:"500"`
		ConfirmWithin int    `json:"confirm_within,omitempty" minimum:"0" maximum:"86400" doc:"Seconds after which it goes back by itself unless confirmed"`
		Version       int64  `json:"version,omitempty" doc:"Of the draft that was seen"`
	}
}) (*out[mail.Applied], error) {
	b := in.Body
	a, err := s.Control.Drafts.Apply(ctx, signedIn(ctx).Name, control.Apply{Force: b.Force, Why: b.Why, ConfirmWithin: time.Duration(b.ConfirmWithin) * time.Second, Version: b.Version})
	if err != nil {
		return nil, s.setupError(err, config.ServiceSection, "")
	}
	s.Insight.Lanes.Forget()
	return &out[mail.Applied]{a}, nil
}

// Rebased is what a rebase met.
type Rebased struct {
	Met []string `json:"met" doc:"Where somebody else changed the same, in words"`
}

func (s *Service) rebaseDraft(ctx context.Context, _ *struct{}) (*out[Rebased], error) {
	met, err := s.Control.Drafts.Rebase(ctx, signedIn(ctx).Name)
	if err != nil {
		return nil, s.setupError(err, config.ServiceSection, "")
	}
	return &out[Rebased]{Rebased{met}}, nil
}

func (s *Service) discardDraft(ctx context.Context, _ *struct{}) (*struct{}, error) {
	if err := s.Control.Drafts.Discard(ctx, signedIn(ctx).Name); err != nil {
		return nil, s.setupError(err, config.ServiceSection, "")
	}
	return nil, nil
}

func (s *Service) listRevisions(ctx context.Context, in *struct {
	Limit int `query:"limit" default:"50" minimum:"1" maximum:"500"`
	After int `query:"after"`
}) (*out[page[mail.Revision]], error) {
	list, err := s.Control.Drafts.History(ctx, in.After, in.Limit)
	if err != nil {
		return nil, s.storeError(err, "revision")
	}
	body := page[mail.Revision]{Items: list}
	if len(list) == in.Limit {
		body.Next = fmt.Sprint(list[len(list)-1].Number)
	}
	return &out[page[mail.Revision]]{body}, nil
}

// RevisionView is a revision with what it changed.
type RevisionView struct {
	Revision mail.Revision   `json:"revision"`
	Changes  []config.Change `json:"changes" doc:"Against the revision it is compared with"`
	Against  int             `json:"against" doc:"0 if there is none before it"`
	YAML     string          `json:"yaml" doc:"The difference as a unified diff"`
}

func (s *Service) showRevision(ctx context.Context, in *struct {
	Number  int `path:"number"`
	Against int `query:"against" doc:"Another revision to compare with; the one before if not given"`
}) (*out[RevisionView], error) {
	rev, err := s.Control.Drafts.Revision(ctx, in.Number)
	if err != nil {
		return nil, s.storeError(err, "revision")
	}
	v := RevisionView{Revision: rev, Changes: []config.Change{}, Against: in.Against}
	if v.Against == 0 {
		v.Against = in.Number - 1
	}
	if v.Against > 0 {
		old, err := s.Control.Drafts.Revision(ctx, v.Against)
		if err != nil {
			return nil, s.storeError(err, "revision to compare with")
		}
		before, err1 := config.ParseDocument(old.Text)
		after, err2 := config.ParseDocument(rev.Text)
		if err := errors.Join(err1, err2); err != nil {
			return nil, huma.Error500InternalServerError(err.Error())
		}
		v.Changes = config.Diff(before, after)
		v.YAML, _ = control.YAMLDiff(before.String(), after.String(), fmt.Sprintf("revision %d", v.Against), fmt.Sprintf("revision %d", rev.Number))
	}
	return &out[RevisionView]{v}, nil
}

func (s *Service) revert(ctx context.Context, in *struct {
	Number int `path:"number"`
	Body   struct {
		Why string `json:"why,omitempty" maxLength:"500"`
	}
}) (*out[mail.Applied], error) {
	a, err := s.Control.Drafts.Revert(ctx, signedIn(ctx).Name, in.Number, in.Body.Why)
	if err != nil {
		return nil, s.storeOr(err, "revision")
	}
	s.Insight.Lanes.Forget()
	return &out[mail.Applied]{a}, nil
}

func (s *Service) storeOr(err error, what string) error {
	if errors.Is(err, fault.ErrNotFound) {
		return s.storeError(err, what)
	}
	return s.setupError(err, config.ServiceSection, "")
}

func (s *Service) confirm(ctx context.Context, in *struct {
	Number int `path:"number"`
}) (*struct{}, error) {
	ok, err := s.Control.Drafts.Confirm(ctx, in.Number)
	if err != nil {
		return nil, s.storeError(err, "revision")
	}
	if !ok {
		return nil, huma.Error409Conflict(fmt.Sprintf("revision %d does not wait for confirmation", in.Number))
	}
	return nil, nil
}

// configText is a configuration as text, and its revision.
type configText struct {
	Revision int    `json:"revision"`
	Text     string `json:"text" doc:"YAML"`
}

func (s *Service) exportConfig(ctx context.Context, in *struct {
	Directory bool `query:"directory" default:"true" doc:"With mailboxes and aliases"`
}) (*out[configText], error) {
	return s.export(ctx, in.Directory, false)
}

func (s *Service) exportSecrets(ctx context.Context, _ *struct{}) (*out[configText], error) {
	return s.export(ctx, true, true)
}

func (s *Service) export(ctx context.Context, directory, secrets bool) (*out[configText], error) {
	rev, err := s.Control.Drafts.Latest(ctx)
	if err != nil {
		return nil, s.storeError(err, "configuration")
	}
	if directory {
		if rev.Text, err = s.Control.Directory.Export(ctx, rev.Text, secrets); err != nil {
			return nil, s.storeError(err, "directory")
		}
	}
	return &out[configText]{configText{rev.Number, rev.Text}}, nil
}

type configInput struct {
	Body struct {
		Text string `json:"text" doc:"YAML" maxLength:"32000000"`
		Name string `json:"name,omitempty" doc:"Of the file" maxLength:"200"`
		Dry  bool   `json:"dry_run,omitempty"`
	}
}

func (s *Service) checkConfig(ctx context.Context, in *configInput) (*out[configText], error) {
	in.Body.Text = s.Control.Drafts.WithWebhooks(ctx, in.Body.Text)
	if _, err := config.Parse([]byte(in.Body.Text)); err != nil {
		return nil, configProblem(err)
	}
	return &out[configText]{configText{s.InForce.Config().Revision, in.Body.Text}}, nil
}

func (s *Service) importConfig(ctx context.Context, in *configInput) (*out[mail.Draft], error) {
	in.Body.Text = s.Control.Drafts.WithWebhooks(ctx, in.Body.Text)
	if _, err := config.Parse([]byte(in.Body.Text)); err != nil {
		return nil, configProblem(err)
	}
	if !in.Body.Dry {
		what := "import of a whole text"
		if in.Body.Name != "" {
			what = "import of " + in.Body.Name
		}
		if err := s.Control.Drafts.ReplaceDraft(ctx, signedIn(ctx).Name, in.Body.Text, what); err != nil {
			return nil, s.setupError(err, config.ServiceSection, "")
		}
	}
	d, err := s.Control.Drafts.State(ctx, false)
	if err != nil {
		return nil, s.setupError(err, config.ServiceSection, "")
	}
	return &out[mail.Draft]{d}, nil
}

// configProblem lists what is wrong, each with its line and field.
func configProblem(err error) error {
	var problems config.Problems
	errors.As(err, &problems)
	var details []error
	for _, p := range problems {
		details = append(details, &huma.ErrorDetail{Location: p.Field, Message: p.Text, Value: p.Line})
	}
	return huma.Error422UnprocessableEntity("the configuration is not valid; nothing was changed", details...)
}
