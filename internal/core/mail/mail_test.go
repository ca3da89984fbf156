package mail

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/diagnose"
)

func TestDeliveriesAreNamedAfterTheirMessage(t *testing.T) {
	id := DeliveryID{Message: 1234567890123, N: 7}
	got, err := ParseDeliveryID(id.String())
	if err != nil || got != id || !strings.HasSuffix(id.String(), "-7") {
		t.Errorf("%s: %+v %v", id, got, err)
	}
	for _, bad := range []string{"", "-1", "0000000000001", "0000000000001-", "0000000000001-0",
		"0000000000001--1", "0000000000001-99999", "x-1"} {
		if got, err := ParseDeliveryID(bad); err == nil {
			t.Errorf("%q was read as %+v", bad, got)
		}
	}
}

func TestRecordsSurviveJSON(t *testing.T) {
	at := time.Date(2026, 11, 23, 5, 0, 0, 123456000, time.UTC)
	d := Delivery{
		Key:           DeliveryID{Message: 42, N: 1},
		MessageID:     42,
		Recipient:     "x@saltmarsh.example",
		State:         Deferred,
		Via:           []string{"a@skerryline.example"},
		Attempts:      2,
		LastAttemptAt: At(at),
		Last: &LastReply{Stage: diagnose.StageConnect, Text: "refused",
			Tried: []LastReply{{Host: "mx1"}}},
		Cause: diagnose.ConnectRefused,
	}
	text, err := json.Marshal(d)
	if err != nil {
		t.Fatal(err)
	}
	var got Delivery
	if err := json.Unmarshal(text, &got); err != nil {
		t.Fatal(err)
	}
	if got.Key != d.Key || !got.LastAttemptAt.Equal(at) || !got.NextAttemptAt.IsZero() ||
		got.Last.Tried[0].Host != "mx1" ||
		got.Cause != d.Cause {
		t.Errorf("%s\n%+v", text, got)
	}
	for _, want := range []string{`"id":"000000000001A-1"`, `"next_attempt_at":null`,
		`"last_attempt_at":"2026-11-23T05:00:00.123456Z"`} {
		if !strings.Contains(string(text), want) {
			t.Errorf("%s lacks %s", text, want)
		}
	}
}

func TestStates(t *testing.T) {
	finals := 0
	for _, s := range States {
		if s.Final() {
			finals++
		}
	}
	if finals != 4 || Waiting.Final() || !Expired.Final() {
		t.Error("final states")
	}
	if got := (LastReply{Code: 550, Enhanced: "5.1.1", Text: "no"}).String(); got != "550 5.1.1 no" {
		t.Errorf("%q", got)
	}
	if got := (LastReply{Enhanced: "4.4.1", Text: "refused"}).String(); got != "4.4.1 refused" {
		t.Errorf("%q", got)
	}
}
