package service

import (
	"context"
	"errors"
	"maps"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"gullroute/internal/api"
	"gullroute/internal/control"
	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/form"
	"gullroute/internal/core/mail"
	"gullroute/internal/keyfile"
)

// directoryAPI serves mailboxes, aliases and secrets.
type directoryAPI struct{ *Service }

// register adds the operations; they take effect immediately.
func (s directoryAPI) register(api huma.API) {
	s.app.Post("/api/v1/mailboxes/import",
		func(c fiber.Ctx) error { return s.streamImport(c, "mailbox") })
	s.app.Post("/api/v1/aliases/import",
		func(c fiber.Ctx) error { return s.streamImport(c, "alias") })
	s.app.Get("/api/v1/mailboxes.csv", func(c fiber.Ctx) error { return s.exportCSV(c, "mailbox") })
	s.app.Get("/api/v1/aliases.csv", func(c fiber.Ctx) error { return s.exportCSV(c, "alias") })
	op := operation{}
	huma.Register(api, read("mailboxes", "/api/v1/mailboxes", "Mailboxes by address"),
		s.listMailboxes)
	huma.Register(api, read("mailbox", "/api/v1/mailboxes/{address}", "One mailbox"), s.showMailbox)
	huma.Register(api, op.post("mailbox-add", "/api/v1/mailboxes", "Add a mailbox"),
		s.addMailbox)
	huma.Register(
		api,
		op.patch("mailbox-change", "/api/v1/mailboxes/{address}",
			"Change fields of a mailbox; null takes one out"),
		s.changeMailbox,
	)
	huma.Register(api,
		op.remove("mailbox-remove", "/api/v1/mailboxes/{address}", "Take a mailbox out"),
		s.removeMailbox)
	huma.Register(api,
		read("mailbox-removal", "/api/v1/mailboxes/{address}/removal",
			"What taking a mailbox out would do: its mail, and what names it"),
		s.mailboxRemoval)
	huma.Register(api,
		read("alias-removal", "/api/v1/aliases/{address}/removal",
			"What taking an alias out would do, and what names it"),
		s.aliasRemoval)
	huma.Register(api, read("aliases", "/api/v1/aliases", "Aliases by address"), s.listAliases)
	huma.Register(api, read("alias", "/api/v1/aliases/{address}", "One alias"), s.showAlias)
	huma.Register(api, op.post("alias-add", "/api/v1/aliases", "Add an alias"), s.addAlias)
	huma.Register(
		api,
		op.patch("alias-change", "/api/v1/aliases/{address}",
			"Change fields of an alias; null takes one out"),
		s.changeAlias,
	)
	huma.Register(api,
		op.remove("alias-remove", "/api/v1/aliases/{address}", "Take an alias out"),
		s.removeAlias)
	huma.Register(
		api,
		read("changes", "/api/v1/changes",
			"What was changed in the directory, by whom, newest first"),
		s.listChanges,
	)
	huma.Register(api,
		read("secrets", "/api/v1/secrets", "Names of the passwords kept for others' servers"),
		s.listSecrets)
	huma.Register(
		api,
		op.put("secret-set", "/api/v1/secrets/{name}",
			"Keep a password, encrypted under the key file"),
		s.setSecret,
	)
	huma.Register(api, op.remove("secret-remove", "/api/v1/secrets/{name}", "Forget a password"),
		s.removeSecret)
}

func (s directoryAPI) listMailboxes(ctx context.Context, in *struct {
	Search string `query:"search" doc:"A part of an address or a name"`
	Domain string `query:"domain"`
	Unused int    `query:"unused_days" minimum:"0" maximum:"3650" doc:"Only those that nobody signed in to for so many days"`
	Sort   string `query:"sort" enum:"address,name,used,quota" default:"address" doc:"By the last two those come first that use most"`
	Paging
}) (*out[api.Page[mail.MailboxLine]], error) {
	if err := s.mayFind(ctx, in.Search); err != nil {
		return nil, err
	}
	l := mail.MailboxList{
		Search: searchForm(in.Search),
		Sort:   in.Sort,
		After:  in.After,
		Limit:  in.Limit,
	}
	if in.Unused > 0 {
		l.UnusedSince = time.Now().AddDate(0, 0, -in.Unused)
	}
	shown, err := strconv.Atoi(in.After)
	if in.Sort != "address" && in.After != "" && (err != nil || shown < 0) {
		return nil, huma.Error422UnprocessableEntity("after: give back what next was")
	}
	l.Within = boundsOf(ctx)
	if in.Domain != "" {
		d, err := address.ParseDomain(in.Domain)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity("domain: " + err.Error())
		}
		l.Domain = d
	}
	items, err := s.Control.Directory.List(ctx, l)
	if err != nil {
		return nil, s.storeError(err, "mailbox")
	}
	body := api.Page[mail.MailboxLine]{Items: items}
	if len(items) == in.Limit {
		last, _ := address.Parse(items[len(items)-1].Address)
		if body.Next = last.Key(); in.Sort != "address" {
			body.Next = strconv.Itoa(shown + len(items))
		}
	}
	for i := range items { // people read U-labels
		it := &items[i]
		for _, list := range [][]string{it.Addresses, it.Generated, it.ForwardTo} {
			for j := range list {
				list[j] = displayed(list[j])
			}
		}
		it.Address = displayed(it.Address)
	}
	return &out[api.Page[mail.MailboxLine]]{body}, nil
}

func displayed(text string) string {
	if a, err := address.Parse(text); err == nil {
		return a.Display()
	}
	return text
}

// EntryPath names one in a path.
type EntryPath struct {
	Address string `path:"address"`
}

func (in EntryPath) address() (address.Address, error) {
	a, err := address.Parse(in.Address)
	if err != nil {
		return a, huma.Error422UnprocessableEntity(err.Error())
	}
	return a, nil
}

// EntryChange is fields to write.
type EntryChange struct {
	Fields map[string]any `json:"fields"`
	Mark   string         `json:"mark,omitempty" doc:"Of the entry that was seen: the change is refused if somebody changed it since"`
	Dry    bool           `json:"dry_run,omitempty"`
}

func (s directoryAPI) entryOf(m *directory.Mailbox) *out[api.Entry] {
	e := api.Entry{
		Fields:    m.Fields(),
		Generated: []string{},
		About:     mailboxFields,
		Mark:      config.MarkOf(m.Fields()),
	}
	for _, a := range m.Generated {
		e.Generated = append(e.Generated, a.Display())
	}
	return &out[api.Entry]{e}
}

var (
	mailboxFields = form.Shown[directory.Mailbox]("password_hash", "scram_keys")
	aliasFields   = form.Shown[directory.Alias]()
)

func aliasEntry(a *directory.Alias) api.Entry {
	return api.Entry{
		Fields:    a.Fields(),
		Generated: []string{},
		About:     aliasFields,
		Mark:      config.MarkOf(a.Fields()),
	}
}

// own finds the mailbox whose own address it is, or one of whose it is.
func (s directoryAPI) own(ctx context.Context, in EntryPath) (*directory.Mailbox, error) {
	a, err := in.address()
	if err != nil {
		return nil, err
	}
	if m := s.InForce.Config().Directory.Mailbox(a); m != nil &&
		mayTouch(ctx, "mailbox", m.Address) == nil {
		return m, nil
	}
	return nil, huma.Error404NotFound("there is no mailbox " + a.Display())
}

func (s directoryAPI) showMailbox(ctx context.Context, in *EntryPath) (*out[api.Entry], error) {
	m, err := s.own(ctx, *in)
	if err != nil {
		return nil, err
	}
	return s.entryOf(m), nil
}

// decode fills a mailbox or an alias from fields.
func decode(fields map[string]any, into any) error {
	if problems := form.Decode(form.NodeOf(fields), into, ""); len(problems) > 0 {
		return problems
	}
	return nil
}

func (s directoryAPI) putMailbox(
	ctx context.Context,
	c EntryChange,
	mustBeNew bool,
) (*out[api.Entry], error) {
	m := &directory.Mailbox{}
	err := decode(c.Fields, m)
	if err == nil {
		if beyond := mayGive(ctx, m); beyond != nil {
			return nil, beyond
		}
		err = s.Control.Directory.PutMailbox(ctx, signedIn(ctx).Name, m, mustBeNew, c.Dry)
	}
	if err != nil {
		return nil, s.entryError(err, "mailbox", m.Address)
	}
	return s.entryOf(m), nil
}

func (s directoryAPI) addMailbox(
	ctx context.Context,
	in *struct{ Body EntryChange },
) (*out[api.Entry], error) {
	return s.putMailbox(ctx, in.Body, true)
}

func (s directoryAPI) changeMailbox(ctx context.Context, in *struct {
	EntryPath
	Body EntryChange
}) (*out[api.Entry], error) {
	m, err := s.own(ctx, in.EntryPath)
	if err != nil {
		return nil, err
	}
	if in.Body.Mark != "" && in.Body.Mark != config.MarkOf(m.Fields()) {
		return nil, s.entryError(control.ErrMark, "mailbox", m.Address)
	}
	in.Body.Fields = merged(m.Fields(), in.Body.Fields)
	return s.putMailbox(ctx, in.Body, false)
}

// merged writes fields over others; null takes one out. The address stays: it is
// what a mailbox is known by.
func merged(fields, over map[string]any) map[string]any {
	own := fields["address"]
	for k, v := range maps.All(over) {
		if fields[k] = v; v == nil || v == "" {
			delete(fields, k)
		}
	}
	fields["address"] = own
	return fields
}

// mailboxRemoval says what taking a mailbox out would do.
func (s directoryAPI) mailboxRemoval(
	ctx context.Context,
	in *EntryPath,
) (*out[api.Removal], error) {
	a, err := in.address()
	if err != nil {
		return nil, err
	}
	if err := mayTouch(ctx, "mailbox", a); err != nil {
		return nil, err
	}
	text, err := s.Control.Directory.WithoutMailbox(ctx, a)
	if err != nil {
		return nil, s.entryError(err, "mailbox", a)
	}
	return &out[api.Removal]{api.Removal{Text: text}}, nil
}

// aliasRemoval says what taking an alias out would do.
func (s directoryAPI) aliasRemoval(ctx context.Context, in *EntryPath) (*out[api.Removal], error) {
	a, err := in.address()
	if err != nil {
		return nil, err
	}
	if err := mayTouch(ctx, "alias", a); err != nil {
		return nil, err
	}
	text, err := s.Control.Directory.WithoutAlias(a)
	if err != nil {
		return nil, s.entryError(err, "alias", a)
	}
	return &out[api.Removal]{api.Removal{Text: text}}, nil
}

func (s directoryAPI) removeMailbox(ctx context.Context, in *EntryPath) (*struct{}, error) {
	a, err := in.address()
	if err != nil {
		return nil, err
	}
	if err := mayTouch(ctx, "mailbox", a); err != nil {
		return nil, err
	}
	if err := s.Control.Directory.RemoveMailbox(ctx, signedIn(ctx).Name, a); err != nil {
		return nil, s.entryError(err, "mailbox", a)
	}
	return nil, nil
}

func (s directoryAPI) listAliases(ctx context.Context, in *struct {
	Search string `query:"search" doc:"A part of an address or of a target"`
	Paging
}) (*out[api.Page[api.AliasLine]], error) {
	if err := s.mayFind(ctx, in.Search); err != nil {
		return nil, err
	}
	body := api.Page[api.AliasLine]{Items: []api.AliasLine{}}
	search, b := searchForm(in.Search), boundsOf(ctx)
	for _, a := range s.InForce.Config().Directory.Aliases() {
		line := api.AliasLine{Address: a.Address.Display(), To: []string{}, About: a.About}
		text := a.Address.Key()
		for _, t := range a.To {
			line.To = append(line.To, t.Display())
			text += " " + t.Key()
		}
		if a.Address.Key() <= in.After || !b.Has(a.Address.Domain) ||
			search != "" && !strings.Contains(text, strings.ToLower(search)) {
			continue
		}
		if len(body.Items) == in.Limit {
			last, _ := address.Parse(body.Items[in.Limit-1].Address)
			body.Next = last.Key()
			break
		}
		body.Items = append(body.Items, line)
	}
	return &out[api.Page[api.AliasLine]]{body}, nil
}

func (s directoryAPI) aliasAt(ctx context.Context, in EntryPath) (*directory.Alias, error) {
	a, err := in.address()
	if err != nil {
		return nil, err
	}
	if alias := s.InForce.Config().Directory.Alias(a); alias != nil &&
		mayTouch(ctx, "alias", a) == nil {
		return alias, nil
	}
	return nil, huma.Error404NotFound("there is no alias " + a.Display())
}

func (s directoryAPI) showAlias(ctx context.Context, in *EntryPath) (*out[api.Entry], error) {
	alias, err := s.aliasAt(ctx, *in)
	if err != nil {
		return nil, err
	}
	return &out[api.Entry]{aliasEntry(alias)}, nil
}

func (s directoryAPI) putAlias(
	ctx context.Context,
	c EntryChange,
	mustBeNew bool,
) (*out[api.Entry], error) {
	alias := &directory.Alias{}
	err := decode(c.Fields, alias)
	if err == nil {
		if b := boundsOf(ctx); !b.Has(alias.Address.Domain) {
			return nil, huma.Error403Forbidden("nothing was changed: " + alias.Address.Display() +
				" is beyond the domains that you look after")
		}
		err = s.Control.Directory.PutAlias(ctx, signedIn(ctx).Name, alias, mustBeNew, c.Dry)
	}
	if err != nil {
		return nil, s.entryError(err, "alias", alias.Address)
	}
	return &out[api.Entry]{aliasEntry(alias)}, nil
}

func (s directoryAPI) addAlias(
	ctx context.Context,
	in *struct{ Body EntryChange },
) (*out[api.Entry], error) {
	return s.putAlias(ctx, in.Body, true)
}

func (s directoryAPI) changeAlias(ctx context.Context, in *struct {
	EntryPath
	Body EntryChange
}) (*out[api.Entry], error) {
	alias, err := s.aliasAt(ctx, in.EntryPath)
	if err != nil {
		return nil, err
	}
	if in.Body.Mark != "" && in.Body.Mark != config.MarkOf(alias.Fields()) {
		return nil, s.entryError(control.ErrMark, "alias", alias.Address)
	}
	in.Body.Fields = merged(alias.Fields(), in.Body.Fields)
	return s.putAlias(ctx, in.Body, false)
}

func (s directoryAPI) removeAlias(ctx context.Context, in *EntryPath) (*struct{}, error) {
	a, err := in.address()
	if err != nil {
		return nil, err
	}
	if err := mayTouch(ctx, "alias", a); err != nil {
		return nil, err
	}
	if err := s.Control.Directory.RemoveAlias(ctx, signedIn(ctx).Name, a); err != nil {
		return nil, s.entryError(err, "alias", a)
	}
	return nil, nil
}

func (s directoryAPI) entryError(err error, what string, a address.Address) error {
	var problems form.Problems
	switch {
	case errors.As(err, &problems):
		var details []error
		for _, p := range problems {
			details = append(details, &huma.ErrorDetail{Location: p.Field, Message: p.Text})
		}
		return huma.Error422UnprocessableEntity(
			"this is not valid; nothing was changed",
			details...)
	case errors.Is(err, control.ErrMark):
		return huma.Error409Conflict(err.Error())
	case errors.Is(err, fault.ErrExists):
		return huma.Error409Conflict(
			"there is a " + what + " " + a.Display() + " already; change it instead",
		)
	case errors.Is(err, fault.ErrNotFound):
		return huma.Error404NotFound("there is no " + what + " " + a.Display())
	}
	return s.storeError(err, what)
}

func (s directoryAPI) listChanges(ctx context.Context, in *struct {
	What  string `query:"what" enum:"mailbox,alias,secret,dkim,finding"`
	Name  string `query:"name"`
	After int64  `query:"after"`
	Limit int    `query:"limit" default:"50" minimum:"1" maximum:"500"`
}) (*out[api.Page[mail.Record]], error) {
	items, err := s.Control.Directory.Records(ctx, in.What, in.Name, in.After, in.Limit)
	if err != nil {
		return nil, s.storeError(err, "change")
	}
	return &out[api.Page[mail.Record]]{api.Page[mail.Record]{Items: items}}, nil
}

func (s directoryAPI) listSecrets(
	ctx context.Context,
	_ *struct{},
) (*out[api.Page[mail.SecretLine]], error) {
	items, err := s.Control.Directory.SecretNames(ctx)
	if err != nil {
		return nil, s.storeError(err, "secret")
	}
	return &out[api.Page[mail.SecretLine]]{api.Page[mail.SecretLine]{Items: items}}, nil
}

// SecretPath names a secret in a path.
type SecretPath struct {
	Name string `path:"name" maxLength:"100"`
}

func (s directoryAPI) setSecret(ctx context.Context, in *struct {
	SecretPath
	Body struct {
		Value string `json:"value" minLength:"1" maxLength:"1000"`
	}
}) (*struct{}, error) {
	err := s.Control.Directory.Secrets.SetSecret(ctx, signedIn(ctx).Name, in.Name, in.Body.Value)
	if errors.Is(err, keyfile.ErrNoKey) {
		return nil, huma.Error409Conflict(err.Error())
	}
	if err != nil {
		return nil, s.storeError(err, "secret")
	}
	return nil, nil
}

func (s directoryAPI) removeSecret(ctx context.Context, in *SecretPath) (*struct{}, error) {
	if err := s.Control.Directory.RemoveSecret(ctx, signedIn(ctx).Name, in.Name); err != nil {
		return nil, s.storeError(err, "secret")
	}
	return nil, nil
}
