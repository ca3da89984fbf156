package snags

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"testing"
	"time"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/snag"
	"gullroute/internal/engine/counters"
	"gullroute/internal/store"
)

// record is a store that notes what it is told, and may be away.
type record struct {
	away      bool
	seen      []store.SnagSeen
	through   map[snag.Place]time.Time
	open      []snag.Place
	reached   map[string]time.Time
	successes map[store.SuccessKey]int64
}

var errAway = errors.New("away")

func (r *record) SeeSnags(_ context.Context, seen []store.SnagSeen) error {
	if r.away {
		return errAway
	}
	r.seen = append(r.seen, seen...)
	return nil
}

func (r *record) EndSnags(_ context.Context, through map[snag.Place]time.Time) error {
	if r.away {
		return errAway
	}
	r.through = through
	return nil
}

func (r *record) OpenPlaces(context.Context, int) ([]snag.Place, error) { return r.open, nil }

func (r *record) EndReached(_ context.Context, at map[string]time.Time) error {
	if r.away {
		return errAway
	}
	r.reached = at
	return nil
}

func (r *record) AddSuccesses(_ context.Context, n map[store.SuccessKey]int64) error {
	if r.away {
		return errAway
	}
	if r.successes == nil {
		r.successes = map[store.SuccessKey]int64{}
	}
	for k, c := range n {
		r.successes[k] += c
	}
	return nil
}

func (r *record) RefreshSnags(context.Context, time.Time, func() ident.ID) error {
	return nil
}

func keeper(r *record) *Keeper {
	return New(r, ident.NewMaker(1, time.Now), counters.New(), slog.New(slog.DiscardHandler))
}

func failed(host string, cause diagnose.Cause, n int) *mail.Delivery {
	return &mail.Delivery{
		MessageID: ident.ID(n + 1),
		N:         1,
		LaneID:    7,
		Recipient: fmt.Sprintf("r%d@%s", n, host),
		NextHop:   host,
		Route:     "to the world",
		State:     mail.Deferred,
		Cause:     cause,
		Last:      &mail.LastReply{Stage: diagnose.StageConnect, Text: "no"},
	}
}

func TestManyMessagesAreWrittenAsOneTroubleWithBounds(t *testing.T) {
	r := &record{}
	k := keeper(r)
	at := time.Date(2026, 11, 23, 9, 59, 0, 0, time.UTC)
	for i := range 300 {
		k.Delivery(failed("sunkenpier.example", diagnose.ConnectRefused, i),
			fmt.Sprintf("s%d@skerryline.example", i), at.Add(time.Duration(i)*time.Second))
	}
	if err := k.write(context.Background()); err != nil || len(r.seen) != 1 {
		t.Fatalf("%v %d", err, len(r.seen))
	}
	x := r.seen[0]
	if x.N != 300 || x.Failed != 0 || len(x.Senders) != maxTouched || len(x.Domains) != 1 || len(x.Lanes) != 1 ||
		!x.First.Equal(at) ||
		!x.Last.Equal(at.Add(299*time.Second)) {
		t.Errorf("%+v", x)
	}
	if x.Hours[at.Truncate(time.Hour)] != 60 || x.Hours[at.Truncate(time.Hour).Add(time.Hour)] != 240 {
		t.Errorf("by hour: %v", x.Hours)
	}
	if x.Evidence.Recipient != "r299@sunkenpier.example" || x.Evidence.DeliveryID.N != 1 {
		t.Errorf("the example: %+v", x.Evidence)
	}
	// More places than are kept are counted as missed, not kept.
	for i := range maxSeen + 50 {
		k.Delivery(failed(fmt.Sprintf("d%d.example", i), diagnose.ConnectRefused, i), "", at)
	}
	if len(k.seen) != maxSeen || k.missed != 50 {
		t.Errorf("%d kept, %d missed", len(k.seen), k.missed)
	}
}

func TestWhatCouldNotBeWrittenIsWrittenLater(t *testing.T) {
	r := &record{away: true}
	k := keeper(r)
	at := time.Now()
	k.Delivery(failed("fogbank.example", diagnose.NoAnswer, 1), "a@b.example", at.Add(time.Second))
	k.Delivery(failed("fogbank.example", diagnose.ConnectRefused, 2), "a@b.example", at)
	through := failed("fogbank.example", "", 3)
	through.State = mail.Delivered
	k.Delivery(through, "a@b.example", at.Add(2*time.Second))
	if err := k.write(context.Background()); !errors.Is(err, errAway) {
		t.Fatal(err)
	}
	r.away = false
	if err := k.write(
		context.Background(),
	); err != nil || len(r.seen) != 2 || r.seen[0].Cause != diagnose.ConnectRefused ||
		r.seen[1].Cause != diagnose.NoAnswer {
		t.Errorf("%v, in the order in which they were last seen: %+v", err, r.seen)
	}
	if len(r.through) != 1 ||
		!r.through[snag.Place{Kind: snag.NextHop, Name: "fogbank.example"}].Equal(at.Add(2*time.Second)) {
		t.Errorf("what got through: %v", r.through)
	}
}

func TestAMessageThatGetsThroughIsNotedOnlyWhereSomethingIsOpen(t *testing.T) {
	r := &record{
		open: []snag.Place{
			{Kind: snag.Address, Name: "wren@fullshelf.example"},
			{Kind: snag.Domain, Name: "dunlin.example"},
		},
	}
	k := keeper(r)
	if err := k.UpToDate(context.Background(), time.Now()); err != nil {
		t.Fatal(err)
	}
	for _, to := range []string{"Wren@Fullshelf.example", "ada@saltmarsh.example", "bo@dunlin.example"} {
		d := failed("x.example", "", 1)
		d.Recipient, d.State = to, mail.Delivered
		k.Delivery(d, "", time.Now())
	}
	if err := k.write(context.Background()); err != nil || len(r.through) != 2 {
		t.Errorf("%v %v", err, r.through)
	}
}

// TestWhatGotThroughIsCountedByPlace counts over a write that fails.
func TestWhatGotThroughIsCountedByPlace(t *testing.T) {
	r := &record{away: true}
	k := keeper(r)
	at := time.Date(2026, 11, 2, 8, 11, 9, 0, time.UTC)
	for i, address := range []string{"203.0.113.9", "203.0.113.9", "2001:db8::9"} {
		d := failed("well.example", diagnose.NoCause, i)
		d.State, d.Last.Address = mail.Delivered, address
		k.Delivery(d, "deck@skerryline.example", at)
	}
	local := failed("local", diagnose.NoCause, 9)
	local.State = mail.Delivered
	k.Delivery(local, "", at)
	if err := k.UpToDate(context.Background(), at); err == nil {
		t.Fatal("the store is away")
	}
	r.away = false
	if err := k.UpToDate(context.Background(), at); err != nil {
		t.Fatal(err)
	}
	want := store.SuccessKey{At: at.Truncate(store.SuccessStep), NextHop: "well.example", Route: "to the world"}
	if n := r.successes[want]; n != 2 || len(r.successes) != 2 {
		t.Errorf("%v", r.successes)
	}
}

// TestAHostThatAnswersAMessageWasReached takes a host that could not be reached and now
// refuses a recipient.
func TestAHostThatAnswersAMessageWasReached(t *testing.T) {
	r := &record{away: true}
	k := keeper(r)
	at := time.Date(2026, 11, 2, 8, 11, 9, 0, time.UTC)
	k.Delivery(failed("back.example", diagnose.ConnectTimeout, 1), "deck@skerryline.example", at)
	d := failed("back.example", diagnose.NoSuchUser, 2)
	d.Last = &mail.LastReply{Stage: diagnose.StageRecipient, Code: 550, Text: "no such user"}
	k.Delivery(d, "deck@skerryline.example", at.Add(time.Minute))
	other := failed("other.example", diagnose.NoSuchUser, 3)
	other.Last = d.Last
	k.Delivery(other, "deck@skerryline.example", at)
	if err := k.UpToDate(context.Background(), at); err == nil {
		t.Fatal("the store is away")
	}
	r.away = false
	if err := k.UpToDate(context.Background(), at); err != nil {
		t.Fatal(err)
	}
	if len(r.reached) != 1 || !r.reached["back.example"].Equal(at.Add(time.Minute)) {
		t.Errorf("%v", r.reached)
	}
}
