package machine

import (
	"fmt"
	"time"

	"gullroute/internal/core/report"
)

// Sample is how much of a place was used at a moment, in octets.
type Sample struct {
	At         time.Time
	Used, Free int64
}

// Forecast is how fast something grows, and when its place is full.
type Forecast struct {
	PerDay int64         `json:"per_day" doc:"Octets; negative if it shrinks"`
	FullIn time.Duration `json:"-"`
	Full   bool          `json:"-"` // FullIn is known
}

// What a forecast needs, and how far it looks ahead.
const (
	leastSpan    = 36 * time.Hour
	leastSamples = 12
	horizon      = 400 * 24 * time.Hour
)

// Foresee lays a line through samples (least squares), the latest last. It is nil while there are
// too few of them: a day has its ups and downs.
func Foresee(samples []Sample) *Forecast {
	n := len(samples)
	if n < leastSamples || samples[n-1].At.Sub(samples[0].At) < leastSpan {
		return nil
	}
	var sx, sy, sxx, sxy float64
	for _, s := range samples {
		x, y := s.At.Sub(samples[0].At).Hours()/24, float64(s.Used)
		sx, sy, sxx, sxy = sx+x, sy+y, sxx+x*x, sxy+x*y
	}
	spread := float64(n)*sxx - sx*sx
	if spread <= 0 {
		return nil
	}
	f := &Forecast{PerDay: int64((float64(n)*sxy - sx*sy) / spread)}
	if free := samples[n-1].Free; f.PerDay > 0 && free > 0 {
		if days := float64(free) / float64(f.PerDay); days < horizon.Hours()/24 {
			f.FullIn, f.Full = time.Duration(days*24*float64(time.Hour)), true
		}
	}
	return f
}

// Soon reports that its place is full within days.
func (f *Forecast) Soon() bool { return f.Full && f.FullIn < fillsBad }

func (f *Forecast) judge() (State, string) {
	if f.PerDay <= 0 {
		return Well, "does not grow"
	}
	text := "grows by " + report.Octets(f.PerDay) + " a day"
	if !f.Full {
		return Well, text
	}
	if f.FullIn < 48*time.Hour {
		text += fmt.Sprintf(": full in %.0f hours", f.FullIn.Hours())
	} else {
		text += fmt.Sprintf(": full in %.0f days", f.FullIn.Hours()/24)
	}
	return pick(f.Soon(), f.FullIn < fillsLook), text
}
