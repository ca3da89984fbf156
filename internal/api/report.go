package api

import (
	"time"

	"gullroute/internal/core/mail"
	"gullroute/internal/core/report"
)

// Movers are what changed most between a period and the same hours before.
type Movers struct {
	Since       time.Time      `json:"since"`
	Until       time.Time      `json:"until"`
	BeforeSince time.Time      `json:"before_since" doc:"Whole weeks before: the same hours of the same days"`
	BeforeUntil time.Time      `json:"before_until"`
	Items       []report.Mover `json:"items" doc:"Those that changed most first"`
}

// TrafficReport is what the traffic looks like in a period.
type TrafficReport struct {
	Since     time.Time                `json:"since"`
	Until     time.Time                `json:"until"`
	Note      string                   `json:"note,omitempty" doc:"What the figures leave out"`
	AsOf      mail.OptTime             `json:"as_of" nullable:"true" doc:"Set when it was read from a standby: what was written until then is in it"`
	Zone      string                   `json:"zone"`
	Step      string                   `json:"step"`
	Dim       string                   `json:"dim"`
	Value     string                   `json:"value"`
	Totals    map[string]report.Figure `json:"totals" doc:"By kind: received, delivered, forwarded, deferred (attempts), bounced, expired, rejected, discarded"`
	Delay     *report.Delay            `json:"delay,omitempty"`
	Before    map[string]report.Figure `json:"before,omitempty"`
	DelayThen *report.Delay            `json:"delay_before,omitempty"`
	Series    []report.Point           `json:"series"`
	Then      []report.Point           `json:"series_before,omitempty"`
	HourOfDay []report.Slot            `json:"hours_of_day" doc:"With means over days"`
	Weekdays  []report.Slot            `json:"weekdays"`
	WeekHours map[string][]float64     `json:"week_hours" doc:"By kind, the mean of each hour of the week, from Monday 0:00 on: 168 figures"`
	Tables    map[string][]report.Row  `json:"tables" doc:"By dimension, those with most first. For more than 31 days those by sender, recipient, client and account are asked for one by one (report-table)"`
	Reasons   map[string][]report.Row  `json:"reasons" doc:"Why deferred, bounced (and expired) and rejected"`
}
