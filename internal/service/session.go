package service

import (
	"cmp"
	"context"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"gullroute/internal/core/address"
	"gullroute/internal/core/form"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/transcript"
	"gullroute/internal/store"
)

type sessionsInput struct {
	Direction string    `query:"direction" enum:"in,out"`
	Protocol  string    `query:"protocol" enum:"SMTP,LMTP"`
	Listener  string    `query:"listener"`
	Route     string    `query:"route"`
	Peer      string    `query:"peer" doc:"IP address, network, or a part of the name"`
	Account   string    `query:"account"`
	Outcome   string    `query:"outcome" enum:"passed,partly,refused,idle,broken,open,trouble" doc:"trouble is all but passed and idle"`
	Longer    string    `query:"longer" doc:"Lasted at least so long, like 30s"`
	Since     time.Time `query:"since"`
	Until     time.Time `query:"until"`
	Sort      string    `query:"sort" enum:"time,duration,bytes,messages" doc:"By something else than time: among the newest 50,000 that match, and one page only"`
	From
	Paging
}

func (s *Service) listSessions(ctx context.Context, in *sessionsInput) (*out[page[mail.Session]], error) {
	f := store.SessionFilter{Direction: in.Direction, Protocol: in.Protocol, Listener: in.Listener, Route: in.Route, Account: in.Account, Outcome: in.Outcome, Since: in.Since, Until: in.Until, Sort: in.Sort, Limit: in.Limit}
	if f.Sort == "time" {
		f.Sort = ""
	}
	if p, err := netip.ParsePrefix(in.Peer); err == nil {
		f.Address = p.Masked().String()
	} else if a, err := netip.ParseAddr(in.Peer); err == nil {
		f.Address = a.Unmap().String()
	} else {
		f.Name = in.Peer
	}
	if in.Longer != "" {
		d, err := form.ParseDuration(in.Longer)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity("longer: " + err.Error())
		}
		f.Longer = d
	}
	if in.After != "" {
		if err := f.Before.UnmarshalText([]byte(in.After)); err != nil {
			return nil, huma.Error422UnprocessableEntity("after: " + err.Error())
		}
	}
	r, err := s.records(ctx, in.From)
	if err != nil {
		return nil, err
	}
	body := page[mail.Session]{Items: []mail.Session{}}
	if in.Archive == 0 && in.After == "" && (f.Sort == "" || f.Sort == "duration") {
		body.Items = s.openSessions(f)
	}
	if f.Outcome != mail.Open {
		list, err := r.ListSessions(ctx, f)
		if err != nil {
			return nil, s.storeError(err, "session")
		}
		body.Items = append(body.Items, list...)
		if len(list) == in.Limit && f.Sort == "" {
			body.Next = list[len(list)-1].ID.String()
		}
	}
	return &out[page[mail.Session]]{body}, nil
}

// maxOpen bounds how many open sessions are listed.
const maxOpen = 200

// openSessions are those open on this node that match, newest first.
func (s *Service) openSessions(f store.SessionFilter) []mail.Session {
	list := slices.DeleteFunc(s.Engine.Record.Open(), func(x mail.Session) bool {
		var network netip.Prefix
		if f.Address != "" {
			network, _ = netip.ParsePrefix(f.Address)
			if a, err := netip.ParseAddr(f.Address); err == nil {
				network = netip.PrefixFrom(a, a.BitLen())
			}
		}
		a, _ := netip.ParseAddr(x.Address)
		return f.Direction != "" && f.Direction != x.Direction || f.Protocol != "" && f.Protocol != x.Protocol || f.Listener != "" && f.Listener != x.Listener || f.Route != "" && f.Route != x.Route ||
			f.Outcome != "" && f.Outcome != mail.Open && f.Outcome != "trouble" || f.Outcome == "trouble" || f.Address != "" && !network.Contains(a) ||
			f.Name != "" && !strings.Contains(strings.ToLower(x.Name), strings.ToLower(f.Name)) || f.Account != "" && !strings.EqualFold(f.Account, x.Account) ||
			x.Seconds < f.Longer.Seconds() || !f.Since.IsZero() && x.StartedAt.Before(f.Since) || !f.Until.IsZero() && !x.StartedAt.Before(f.Until)
	})
	slices.SortFunc(list, func(a, b mail.Session) int { return cmp.Compare(b.ID, a.ID) })
	return list[:min(len(list), maxOpen)]
}

// sessionShown is a session with its dialogue, its letters and its refusals.
type sessionShown struct {
	mail.SessionView
	Refusals []mail.Refusal `json:"refusals"`
	Subjects []letterLink   `json:"subjects" doc:"Its first letters"`
}

type letterLink struct {
	ID      ident.ID   `json:"id"`
	Sender  string     `json:"sender"`
	Subject string     `json:"subject"`
	State   mail.State `json:"state"`
}

// maxLinks is how many of a session's letters are shown with their subjects.
const maxLinks = 20

func (s *Service) showSession(ctx context.Context, in *oneOf) (*out[sessionShown], error) {
	r, id, err := s.one(ctx, in)
	if err != nil {
		return nil, err
	}
	var rec mail.SessionRecord
	// What is not yet on record is in memory: first there, then in the records.
	if open := s.Engine.Record.OpenOne(id); open != nil && in.Archive == 0 {
		rec = *open
	} else {
		rec, err = r.Session(ctx, id)
	}
	if err != nil {
		return nil, s.storeError(err, "session; it may still be open on another node, or past the retention time")
	}
	v := sessionShown{SessionView: mail.SessionView{Session: rec.Session, Lines: []transcript.Line{}}, Refusals: []mail.Refusal{}, Subjects: []letterLink{}}
	switch {
	case rec.Transcript != nil:
		v.Lines, err = transcript.Read(rec.Transcript)
		if err != nil {
			v.Missing = err.Error()
		}
	case rec.Dialogue:
		v.Missing = "The dialogue is past the time for which dialogues are kept (service.transcripts_kept)."
	default:
		v.Missing = "The settings do not keep this dialogue (transcript of the listener, route or peer). Watch the client or domain to keep the next ones."
	}
	if rec.Refused > 0 && rec.Direction == mail.In {
		end := time.Now()
		if !rec.EndedAt.IsZero() {
			end = rec.EndedAt.Time
		}
		list, err := r.RefusalsOf(ctx, id, rec.Address, end)
		if err != nil {
			return nil, s.storeError(err, "session")
		}
		v.Refusals = append(v.Refusals, list...)
	}
	for _, l := range rec.Letters[:min(len(rec.Letters), maxLinks)] {
		if m, err := r.Message(ctx, l); err == nil {
			link := letterLink{ID: l, Sender: m.Sender, Subject: m.Subject}
			if len(m.Deliveries) > 0 {
				link.State = m.Deliveries[0].State
			}
			v.Subjects = append(v.Subjects, link)
		}
	}
	return &out[sessionShown]{v}, nil
}

func (s *Service) listWatches(ctx context.Context, _ *struct{}) (*out[page[mail.Watch]], error) {
	list, err := s.Store.Watches(ctx)
	if err != nil {
		return nil, s.storeError(err, "watch")
	}
	return &out[page[mail.Watch]]{page[mail.Watch]{Items: append([]mail.Watch{}, list...)}}, nil
}

// longestWatch bounds a watch: whoever watches is there.
const longestWatch = 24 * time.Hour

type watchRequest struct {
	What string `json:"what" doc:"An IP address, a network, or a domain" minLength:"1" maxLength:"255"`
	For  string `json:"for,omitempty" doc:"How long, at most a day; 0s ends it" default:"1h"`
}

func (s *Service) watch(ctx context.Context, in *struct{ Body watchRequest }) (*out[mail.Watch], error) {
	d, err := form.ParseDuration(cmp.Or(in.Body.For, "1h"))
	if err != nil || d < 0 || d > longestWatch {
		return nil, huma.Error422UnprocessableEntity("for: write a time up to 24h, like 1h")
	}
	w := mail.Watch{Kind: "client", What: in.Body.What, Who: signedIn(ctx).Name, Until: time.Now().Add(d).UTC()}
	if p, err := netip.ParsePrefix(in.Body.What); err == nil {
		w.What = p.Masked().String()
	} else if a, err := netip.ParseAddr(in.Body.What); err == nil {
		w.What = a.Unmap().String()
	} else if dom, err := address.ParseDomain(strings.TrimPrefix(in.Body.What, "@")); err == nil {
		w.Kind, w.What = "domain", string(dom)
	} else {
		return nil, huma.Error422UnprocessableEntity("what: write an IP address, a network like 127.20.1.0/24, or a domain")
	}
	if err := s.Store.SetWatch(ctx, w); err != nil {
		return nil, s.storeError(err, "watch")
	}
	return &out[mail.Watch]{w}, nil
}
