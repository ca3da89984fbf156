package service

import (
	"context"
	"errors"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"gullroute/internal/api"
	"gullroute/internal/core/address"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/folder"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
)

// boxesAPI serves what lies in mailboxes, and the passwords of their programs.
type boxesAPI struct{ *Service }

func (s boxesAPI) register(api huma.API) {
	const at = "/api/v1/mailboxes/{address}"
	op := operation{}
	huma.Register(api, read("mailbox-messages", at+"/messages",
		"Messages in a mailbox or in one folder of it, newest first"), s.list)
	huma.Register(api, read("mailbox-folders", at+"/folders",
		"The folders of a mailbox, with how much lies in them"), s.folders)
	huma.Register(api, op.make(http.MethodGet, "mailbox-view", at+"/messages/{id}/view",
		"A message in a mailbox: its header, structure and text, safe to look at"), s.view)
	huma.Register(api, read("app-passwords", at+"/app-passwords",
		"The passwords of a mailbox for one program each, with their last use"), s.appPasswords)
	huma.Register(api, op.post("app-password-add", at+"/app-passwords",
		"Make a password for one program; it is shown this once"), s.addAppPassword)
	huma.Register(api, op.remove("app-password-revoke", at+"/app-passwords/{name}",
		"Take it away; its sessions end at once"), s.revokeAppPassword)
}

func (s boxesAPI) list(ctx context.Context, in *struct {
	EntryPath
	Folder string `query:"folder" maxLength:"300" doc:"Only what lies in this folder"`
	Paging
}) (*out[api.Page[mail.MailboxItem]], error) {
	box, err := s.mailboxAddress(ctx, in.Address)
	if err != nil {
		return nil, err
	}
	var before ident.ID
	if in.After != "" {
		if err := before.UnmarshalText([]byte(in.After)); err != nil {
			return nil, huma.Error422UnprocessableEntity("after: " + err.Error())
		}
	}
	items, err := s.Insight.Trace.MailboxMessages(ctx, box, in.Folder, before, in.Limit)
	if err != nil {
		return nil, s.storeError(err, "mailbox")
	}
	body := api.Page[mail.MailboxItem]{Items: items}
	if len(items) == in.Limit {
		body.Next = items[len(items)-1].ID.String()
	}
	return &out[api.Page[mail.MailboxItem]]{body}, nil
}

// mailboxAddress finds the mailbox that an address names.
func (s boxesAPI) mailboxAddress(ctx context.Context, text string) (string, error) {
	a, err := address.Parse(text)
	if err != nil {
		return "", huma.Error422UnprocessableEntity(err.Error())
	}
	box := s.InForce.Config().Mailbox(a)
	if box == nil || mayTouch(ctx, "mailbox", box.Address) != nil {
		return "", huma.Error404NotFound("there is no mailbox " + a.Display())
	}
	return box.Address.String(), nil
}

func (s boxesAPI) folders(
	ctx context.Context,
	in *EntryPath,
) (*out[api.Page[folder.Folder]], error) {
	box, err := s.mailboxAddress(ctx, in.Address)
	if err != nil {
		return nil, err
	}
	items, err := s.Insight.Trace.MailboxFolders(ctx, box)
	if err != nil {
		return nil, s.storeError(err, "mailbox")
	}
	return &out[api.Page[folder.Folder]]{api.Page[folder.Folder]{Items: items}}, nil
}

func (s boxesAPI) view(ctx context.Context, in *struct {
	EntryPath
	ID  string `path:"id"`
	Why string `query:"why" maxLength:"300" doc:"Put on record with who looked"`
}) (*out[api.ContentView], error) {
	box, err := s.mailboxAddress(ctx, in.Address)
	if err != nil {
		return nil, err
	}
	id, err := ident.Parse(in.ID)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	v, err := s.Insight.Trace.MailboxView(ctx, box, id)
	if err != nil {
		return nil, s.storeError(err, "message in this mailbox")
	}
	return &out[api.ContentView]{v}, nil
}

func (s boxesAPI) appPasswords(
	ctx context.Context,
	in *EntryPath,
) (*out[api.Page[mail.AppPassword]],
	error) {
	box, err := directoryAPI(s).own(ctx, *in)
	if err != nil {
		return nil, err
	}
	list, err := s.Control.Directory.AppPasswords(ctx, box)
	if err != nil {
		return nil, s.storeError(err, "mailbox")
	}
	return &out[api.Page[mail.AppPassword]]{api.Page[mail.AppPassword]{Items: list}}, nil
}

func (s boxesAPI) addAppPassword(ctx context.Context, in *struct {
	EntryPath
	Body struct {
		Name string `json:"name" minLength:"1" maxLength:"60" doc:"Of the program, like phone"`
	}
}) (*out[api.NewAppPassword], error) {
	box, err := directoryAPI(s).own(ctx, in.EntryPath)
	if err != nil {
		return nil, err
	}
	return s.newApp(ctx, signedIn(ctx).Name, box, in.Body.Name)
}

// newApp makes an app password.
func (s boxesAPI) newApp(ctx context.Context, who string, box *directory.Mailbox, name string) (
	*out[api.NewAppPassword], error) {
	password, err := s.Control.Directory.AddAppPassword(ctx, who, box, name)
	if errors.Is(err, fault.ErrExists) {
		return nil, huma.Error409Conflict(
			"there is an app password of that name; revoke it first, or choose another name")
	}
	if err != nil {
		return nil, s.storeError(err, "mailbox")
	}
	return &out[api.NewAppPassword]{api.NewAppPassword{
		Mailbox: box.Address.Display(), Name: name, Password: password}}, nil
}

func (s boxesAPI) revokeAppPassword(ctx context.Context, in *struct {
	EntryPath
	Name string `path:"name" maxLength:"60"`
}) (*struct{}, error) {
	box, err := directoryAPI(s).own(ctx, in.EntryPath)
	if err != nil {
		return nil, err
	}
	if err := s.Control.Directory.RevokeAppPassword(ctx, box, in.Name); err != nil {
		return nil, s.storeError(err, "app password "+in.Name)
	}
	return nil, nil
}
