package mail

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/form"
	"gullroute/internal/core/ident"
)

// Selection holds the words by which deliveries in the queue are chosen; the
// same in the interface, the commands and the console. All that are given must
// hold.
type Selection struct {
	Lane       string   `query:"lane" json:"lane,omitempty" doc:"A lane's id"`
	Route      string   `query:"route" json:"route,omitempty" doc:"A route's name"`
	Message    string   `query:"message" json:"message,omitempty" doc:"A message's id"`
	Deliveries []string `query:"delivery" json:"delivery,omitempty" maxItems:"1000" doc:"Ids of deliveries"`
	State      State    `query:"state" json:"state,omitempty" enum:"waiting,deferred,held" doc:"waiting, deferred or held"`
	Sender     string   `query:"sender" json:"sender,omitempty" doc:"An address, a part of one, or <> for the null sender"`
	Recipient  string   `query:"recipient" json:"recipient,omitempty" doc:"An address or a part of one"`
	Domain     string   `query:"domain" json:"domain,omitempty" doc:"The recipient's domain"`
	Older      string   `query:"older" json:"older,omitempty" doc:"Received longer ago than this: 2h, 3d; or before this time"`
	Newer      string   `query:"newer" json:"newer,omitempty" doc:"Received less long ago than this: 2h, 3d; or since this time"`
	Larger     string   `query:"larger" json:"larger,omitempty" doc:"Larger than this: 1 MB"`
	Smaller    string   `query:"smaller" json:"smaller,omitempty" doc:"Smaller than this: 10 KB"`
	Cause      string   `query:"cause" json:"cause,omitempty" doc:"Why it waits: greylisted, mailbox-full, …"`
	Attempts   int      `query:"attempts" json:"attempts,omitempty" minimum:"0" doc:"At least so many attempts"`
	Subject    string   `query:"subject" json:"subject,omitempty" doc:"A part of the subject"`
	Client     string   `query:"client" json:"client,omitempty" doc:"IP address of the client that handed it in"`
	Account    string   `query:"account" json:"account,omitempty" doc:"Account that handed it in"`
	// Within are the domains to which whoever asks is bounded; none is no bound.
	Within []string `json:"-"`
	Action int64    `query:"action" json:"action,omitempty" minimum:"0" doc:"Number of the action that touched it last"`
}

// Filter is a selection as it is read. Zero fields select all.
type Filter struct {
	Lane, Message ident.ID
	Deliveries    []DeliveryID
	Route         string
	State         State
	Sender        string // an address in A-label form or a part of one
	Recipient     string
	Domain        string
	Before, Since time.Time // came in
	Larger        int64     // octets; 0 is no bound
	Smaller       int64
	Cause         string
	Attempts      int
	Subject       string
	Client        string
	Account       string
	Action        int64
	Within        []string   // sender or recipient at one of these domains; none is no bound
	NotAction     int64      // leaves out what this action touched last
	After         DeliveryID // continue behind this one
	Limit         int
}

// WordError is a word of a selection that cannot be read.
type WordError struct{ Word, Value, Text string }

// Error names the word.
func (e WordError) Error() string { return e.Word + ": " + e.Text }

// Everything reports that nothing is chosen by: all deliveries are meant.
func (s Selection) Everything() bool { return len(s.words()) == 0 }

// Filter reads the words; every one that is wrong is named.
func (s Selection) Filter(now time.Time) (Filter, []WordError) {
	f := Filter{
		Route:     s.Route,
		State:     s.State,
		Sender:    searchForm(s.Sender),
		Recipient: searchForm(s.Recipient),
		Cause:     s.Cause,
		Attempts:  s.Attempts,
		Subject:   s.Subject,
		Client:    s.Client,
		Account:   searchForm(s.Account),
		Action:    s.Action,
		Within:    s.Within,
	}
	var wrong []WordError
	read := func(word, text string, into func(string) error) {
		if text == "" {
			return
		}
		if err := into(text); err != nil {
			wrong = append(wrong, WordError{word, text, err.Error()})
		}
	}
	read("lane", s.Lane, func(t string) error { return f.Lane.UnmarshalText([]byte(t)) })
	read("message", s.Message, func(t string) error { return f.Message.UnmarshalText([]byte(t)) })
	for _, text := range s.Deliveries {
		read("delivery", text, func(t string) error {
			id, err := ParseDeliveryID(t)
			f.Deliveries = append(f.Deliveries, id)
			return err
		})
	}
	read("domain", s.Domain, func(t string) (err error) {
		f.Domain, err = address.ParseDomain(strings.TrimPrefix(t,
			"@"))
		return
	})
	read("older", s.Older, func(t string) (err error) { f.Before, err = ago(t, now); return })
	read("newer", s.Newer, func(t string) (err error) { f.Since, err = ago(t, now); return })
	read("larger", s.Larger,
		func(t string) error { n, err := form.ParseSize(t); f.Larger = int64(n); return err })
	read("smaller", s.Smaller,
		func(t string) error { n, err := form.ParseSize(t); f.Smaller = int64(n); return err })
	if s.State != "" && s.State != Waiting && s.State != Deferred && s.State != Held {
		wrong = append(wrong, WordError{
			"state",
			string(s.State),
			fmt.Sprintf("%q is no state of a message in the queue; write waiting, deferred or held",
				s.State),
		})
	}
	return f, wrong
}

// searchForm writes an address as it is stored, its domain in A-labels.
func searchForm(text string) string {
	if a, err := address.Parse(text); err == nil && a.Domain != "" {
		return a.String()
	}
	return text
}

// ago reads "2h", "3d" or a time.
func ago(text string, now time.Time) (time.Time, error) {
	if d, err := form.ParseDuration(text); err == nil {
		return now.Add(-d), nil
	}
	for _, layout := range []string{time.RFC3339, "2006-01-02T15:04", "2006-01-02 15:04",
		"2006-01-02"} {
		if t, err := time.Parse(layout, text); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf(
		"%q is neither a length of time like 2h or 3d nor a time like 2026-11-23T10:00",
		text,
	)
}

// String is the selection in words: "deferred, domain greywacke.example".
func (s Selection) String() string {
	w := s.words()
	if len(w) == 0 {
		return "everything that waits"
	}
	return strings.Join(w, ", ")
}

func (s Selection) words() []string {
	var w []string
	add := func(name, value string) {
		if value != "" {
			w = append(w, strings.TrimSpace(name+" "+value))
		}
	}
	add("", string(s.State))
	add("lane", s.Lane)
	add("route", s.Route)
	add("message", s.Message)
	switch n := len(s.Deliveries); {
	case n > 1:
		add("", strconv.Itoa(n)+" chosen deliveries")
	case n == 1:
		add("delivery", s.Deliveries[0])
	}
	add("from", s.Sender)
	add("to", s.Recipient)
	add("to domain", s.Domain)
	add("older than", s.Older)
	add("newer than", s.Newer)
	add("larger than", s.Larger)
	add("smaller than", s.Smaller)
	add("cause", s.Cause)
	if s.Attempts > 0 {
		add("tried at least", strconv.Itoa(s.Attempts)+" times")
	}
	add("subject", s.Subject)
	add("client", s.Client)
	add("account", s.Account)
	if s.Action > 0 {
		add("touched by action", strconv.FormatInt(s.Action, 10))
	}
	return w
}
