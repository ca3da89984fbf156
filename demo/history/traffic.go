// Package history makes the demo world's two weeks: some twenty thousand messages
// with days, nights and weekends, sent through the service's own listeners and
// queue over the simulated internet, in virtual time, from a fixed seed. It needs
// the bubble of testing/synctest, so its program is a test binary.
package history

import (
	"fmt"
	"math/rand/v2"
	"mime"
	"slices"
	"strings"
	"time"

	"gullroute/internal/simnet"
)

// Days is how long the history is.
const Days = 14

// seed makes the same messages every time.
const seed = 1847

// message is one to be submitted.
type message struct {
	at       time.Time
	listener string
	client   string
	name     string // in EHLO
	account  string
	password string
	from     string
	to       []string
	subject  string
	lines    int
	file     string // a kind of simnet.Attached
}

// way is one kind of message; weight is how often it comes.
type way struct {
	weight   int
	listener string
	client   string
	name     string
	from     []string
	to       []string
	subjects []string
	lines    int  // at most; 40 if 0
	night    bool // comes at night too
	signedIn bool
}

var staff = []string{
	"ines.harrow@skerryline.example",
	"tomas.vik@skerryline.example",
	"odile.marr@skerryline.example",
	"wren.castell@skerryline.example",
}

var passengers = []string{
	"ada@saltmarsh.example",
	"bo@saltmarsh.example",
	"cleo@dunlin.example",
	"dag@barelock.example",
	"eli@oldlocks.example",
	"frida@saltmarsh.example",
	"gus@dunlin.example",
	"hedda@plainscript.example",
	"ivar@lowtide.example",
	"juni@saltmarsh.example",
}

var ways = []way{
	{
		weight:   300,
		listener: "inside",
		client:   "127.20.1.5",
		name:     "kiosk5.skerryline.example",
		from:     []string{"tickets@skerryline.example"},
		to:       passengers,
		subjects: []string{
			"Your ticket for the night boat",
			"Your ticket for the 07:40 to North Skerry",
			"Your ticket for the 12:10 round the islands",
			"Change of quay today",
			"Receipt for your crossing",
		},
	},
	{
		weight:   120,
		listener: "inside",
		client:   "127.20.1.7",
		name:     "kiosk7.skerryline.example",
		from:     []string{"tickets@skerryline.example"},
		to:       passengers,
		subjects: []string{
			"Your ticket for the 16:25 to South Skerry",
			"Your season ticket",
			"Your bicycle has a place",
		},
	},
	{
		weight:   190,
		listener: "edge",
		client:   "127.30.0.10",
		name:     "mx.saltmarsh.example",
		from: []string{
			"ada@saltmarsh.example",
			"bo@saltmarsh.example",
			"frida@saltmarsh.example",
		},
		to: append(
			[]string{
				"info@skerryline.example",
				"crew@skerryline.example",
				"tickets@skerryline.example",
				"accounts@skerryline.example",
			},
			staff...),
		subjects: []string{
			"Question about bicycles on board",
			"Lost: one grey umbrella",
			"Timetable for December",
			"Thank you",
			"Group of twelve on Saturday",
			"Is the café open in winter?",
		},
	},
	{
		weight:   80,
		listener: "edge",
		client:   "127.30.0.12",
		name:     "mx2.dunlin.example",
		from:     []string{"cleo@dunlin.example", "gus@dunlin.example"},
		to: []string{
			"anders@lightkeepers.example",
			"mette.lund@lightkeepers.example",
			"orders@kelpworks.example",
			"jon.aas@lightkeepers.example",
			"ailsa.brune@skerryline.example",
		},
		subjects: []string{
			"Lamp oil, forty litres",
			"Watch list for next week",
			"Seaweed, two tonnes",
			"The fog signal sounds flat",
		},
	},
	{
		weight:   110,
		listener: "inside",
		client:   "127.20.2.3",
		name:     "bridge-north.skerryline.example",
		from:     []string{"bridge@skerryline.example"},
		to:       []string{"archive@skerryline.example", "bridge@skerryline.example"},
		subjects: []string{
			"Bridge log, northern boat",
			"Bridge log, southern boat",
			"Engine hours",
		},
		night: true,
	},
	{
		weight:   20,
		listener: "inside",
		client:   "127.0.0.1",
		name:     "localhost",
		from:     []string{"keeper@skerryline.example"},
		to:       []string{"keeper@skerryline.example"},
		subjects: []string{"Backup finished", "Disk report"},
		night:    true,
	},
	{
		weight:   90,
		listener: "submission",
		client:   "127.30.0.90",
		name:     "laptop.skerryline.example",
		from:     staff,
		signedIn: true,
		to: []string{
			"ada@saltmarsh.example",
			"cleo@dunlin.example",
			"orders@kelpworks.example",
			"anders@lightkeepers.example",
			"crew@skerryline.example",
			"piet.sandholm@skerryline.example",
			"søren@bølgevik.example",
		},
		subjects: []string{
			"Berth for Thursday",
			"Invoice 2231",
			"About the pontoon",
			"Minutes of the quay meeting",
			"Re: Timetable for December",
			"Painting the buoys",
		},
	},
	{
		weight:   26,
		listener: "submission",
		client:   "127.30.0.91",
		name:     "phone.skerryline.example",
		from:     staff,
		signedIn: true,
		to: []string{
			"finn@greywacke.example",
			"gro@slowtide.example",
			"hal@ebbandflow.example",
			"ivo@fullshelf.example",
			"nils@smallhatch.example",
		},
		subjects: []string{"Berth for Thursday", "Invoice 2236", "Winter storage"},
	},
	{
		weight:   12,
		listener: "submission",
		client:   "127.30.0.90",
		name:     "laptop.skerryline.example",
		from:     staff,
		signedIn: true,
		to: []string{
			"jo@sunkenpier.example",
			"kit@fogbank.example",
			"liv@strandwatch.example",
			"moa@homelines.example",
			"ned@nosuch.example",
			"ola@hangup.example",
			"pia@lostbuoy.example",
			"rut@nomail.example",
			"sol@foghorn.example",
			"una@lee-shore.example",
		},
		subjects: []string{
			"Reminder: harbour dues",
			"Invoice 2240",
			"Meeting on the breakwater",
			"Are you still there?",
		},
	},
	{
		weight:   14,
		listener: "submission",
		client:   "127.30.0.90",
		name:     "laptop.skerryline.example",
		from:     staff[:3],
		signedIn: true,
		to:       []string{"liv@strandwatch.example", "per@strandwatch.example"},
		subjects: []string{"Tide tables for your watch", "Guest berths in spring"},
	},
	{
		weight:   9,
		listener: "edge",
		client:   "127.30.0.12",
		name:     "mx2.dunlin.example",
		from:     []string{"cleo@dunlin.example"},
		to:       []string{"piet.sandholm@skerryline.example", "everyone@skerryline.example"},
		subjects: []string{"The engine part has arrived", "Open day at the lighthouse"},
	},
	{
		weight:   4,
		listener: "edge",
		client:   "127.30.0.26",
		name:     "mx.roundabout.example",
		from:     []string{"rota@dunlin.example"},
		to:       []string{"carousel@skerryline.example"},
		subjects: []string{"Who has the ferry on Sunday?"},
	},
	{
		weight:   10,
		listener: "edge",
		client:   "127.30.0.24",
		name:     "mx.barelock.example",
		from:     []string{"dag@barelock.example", "nobody@barelock.example"},
		to: []string{
			"ines.harow@skerryline.example",
			"nosuchperson@skerryline.example",
			"old.captain@skerryline.example",
		},
		subjects: []string{"hello", "Invoice"},
	},
	{
		weight:   16,
		listener: "edge",
		client:   "127.30.0.66",
		name:     "bulk.driftwood.example",
		from:     []string{"win@driftwood.example", "prize@driftwood.example"},
		to: []string{
			"x@saltmarsh.example",
			"sales@dunlin.example",
			"info@skerryline.example",
		},
		subjects: []string{"You have won", "Cheap anchors"},
		night:    true,
	},
	{
		weight:   6,
		listener: "inside",
		client:   "127.20.9.9",
		name:     "host9",
		from:     []string{"prizes@skerryline.example"},
		to:       []string{"tove@saltmarsh.example", "ada@saltmarsh.example"},
		subjects: []string{"You have won"},
		night:    true,
	},
	{
		weight:   3,
		listener: "inside",
		client:   "127.20.1.9",
		name:     "kiosk9.skerryline.example",
		from:     []string{"bridge@skerryline.example"},
		to:       []string{"logs@[127.30.0.60]"},
		subjects: []string{"Bridge log, to the old recorder"},
		night:    true,
	},
	{
		weight:   3,
		listener: "edge",
		client:   "127.30.0.10",
		name:     "mx.saltmarsh.example",
		from:     []string{"ada@saltmarsh.example"},
		to:       []string{"wren.castell@skerryline.example"},
		subjects: []string{"Scans of the old charts"},
		lines:    30_000,
	},
	{
		weight:   3,
		listener: "submission",
		client:   "127.30.0.90",
		name:     "laptop.skerryline.example",
		from:     staff[:2],
		signedIn: true,
		to:       []string{"nils@smallhatch.example"},
		subjects: []string{"Photographs of the slipway"},
		lines:    6_000,
	},
}

// busy is how much comes in each hour of a day.
var busy = [24]int{
	2,
	1,
	1,
	1,
	2,
	5,
	14,
	26,
	34,
	36,
	33,
	30,
	26,
	30,
	32,
	31,
	28,
	24,
	18,
	14,
	11,
	8,
	5,
	3,
}

// share is how much of a usual day comes on each day of the week.
var share = map[time.Weekday]float64{time.Saturday: 0.6, time.Sunday: 0.5}

// usual is how many messages come on a working day.
const usual = 1660

// plan is all messages between two times, in order, each at a moment of its own.
func plan(from, to time.Time, days map[int]bool) []message {
	var out []message
	for day := range Days + 1 {
		midnight := from.Truncate(24*time.Hour).AddDate(0, 0, day)
		if days != nil && !days[day] {
			continue
		}
		rnd := rand.New(rand.NewPCG(seed, uint64(day)))
		part, ok := share[midnight.Weekday()]
		if !ok {
			part = 1
		}
		sum := 0
		for _, n := range busy {
			sum += n
		}
		for hour, n := range busy {
			count := int(float64(usual*n) * part / float64(sum) * (0.85 + 0.3*rnd.Float64()))
			for range count {
				at := midnight.Add(
					time.Duration(hour)*time.Hour + time.Duration(rnd.Int64N(int64(time.Hour))),
				)
				out = append(out, one(rnd, at, hour < 5))
			}
		}
		out = append(out, incidents(rnd, midnight, day)...)
	}
	slices.SortStableFunc(out, func(a, b message) int { return a.at.Compare(b.at) })
	out = slices.DeleteFunc(out,
		func(l message) bool { return l.at.Before(from) || !l.at.Before(to) })
	for i := range out { // no two at the same time: what happens together has no order
		if i > 0 && !out[i].at.After(out[i-1].at.Add(3*time.Millisecond)) {
			out[i].at = out[i-1].at.Add(3 * time.Millisecond)
		}
	}
	return out
}

func one(rnd *rand.Rand, at time.Time, night bool) message {
	for {
		sum := 0
		for _, w := range ways {
			sum += w.weight
		}
		pick := rnd.IntN(sum)
		for _, w := range ways {
			if pick -= w.weight; pick >= 0 {
				continue
			}
			if night && !w.night && rnd.IntN(3) > 0 {
				break // people sleep
			}
			l := message{
				at:       at,
				listener: w.listener,
				client:   w.client,
				name:     w.name,
				from:     choose(rnd, w.from),
				to:       []string{choose(rnd, w.to)},
				subject:  choose(rnd, w.subjects),
				lines:    3 + rnd.IntN(40),
			}
			if w.lines > 0 {
				l.lines = w.lines/2 + rnd.IntN(w.lines/2)
			}
			if w.signedIn {
				l.account, l.password = l.from, password(l.from)
			}
			if rnd.IntN(25) == 0 {
				l.to = append(l.to, choose(rnd, w.to))
			}
			return l
		}
	}
}

func choose(rnd *rand.Rand, list []string) string { return list[rnd.IntN(len(list))] }

// password is a mailbox's in the history; the live demo sets others.
func password(mailbox string) string { return "tide-" + mailbox }

// The days of what goes wrong, counted from the first.
const (
	dayResolver    = 5  // for two hours our resolver is down
	dayBlockListed = 8  // from nine o'clock strandwatch refuses us
	dayStolen      = 11 // at night somebody sends with Odile's password
)

// incidents are messages that do not come every day.
func incidents(rnd *rand.Rand, midnight time.Time, day int) []message {
	var out []message
	if day%3 == 1 { // somebody guesses passwords
		for i := range 6 {
			out = append(out, message{
				at:       midnight.Add(3*time.Hour + time.Duration(i)*40*time.Second),
				listener: "submission",
				client:   "127.30.0.77",
				name:     "guess.driftwood.example",
				account:  "tomas.vik@skerryline.example",
				password: fmt.Sprint("guess", i),
				from:     "tomas.vik@skerryline.example",
				to:       []string{"ada@saltmarsh.example"},
				subject:  "hi",
				lines:    3,
			})
		}
	}
	out = append(out, gated(midnight, day)...)
	if day == dayStolen {
		at := midnight.Add(time.Hour + 12*time.Minute)
		for i := range 760 {
			at = at.Add(time.Duration(8+rnd.IntN(16)) * time.Second)
			to := fmt.Sprintf(
				"%s%d@%s",
				choose(rnd, []string{"kim", "lo", "mia", "noa", "ove", "pal"}),
				rnd.IntN(900),
				choose(rnd, []string{
					"saltmarsh.example",
					"dunlin.example",
					"nosuch.example",
					"barelock.example",
					"lowtide.example",
				}),
			)
			out = append(out, message{
				at:       at,
				listener: "submission",
				client:   "127.30.0.99",
				name:     "tunnel.driftwood.example",
				account:  "odile.marr@skerryline.example",
				password: password("odile.marr@skerryline.example"),
				from:     "odile.marr@skerryline.example",
				to:       []string{to},
				subject: choose(rnd,
					[]string{"Your parcel waits", "Last notice", "Confirm your account"}),
				lines: 6 + i%5,
			})
		}
	}
	return out
}

// gated are messages that gates have something to say about.
func gated(midnight time.Time, day int) []message {
	rnd := rand.New(rand.NewPCG(seed, uint64(day)))
	var out []message
	add := func(hour int, l message) {
		l.at = midnight.Add(
			time.Duration(hour)*time.Hour + time.Duration(rnd.IntN(3600))*time.Second,
		)
		l.lines = 3 + rnd.IntN(8)
		out = append(out, l)
	}
	for range 2 + rnd.IntN(4) { // programs from outside
		add(6+rnd.IntN(15), message{
			listener: "edge", client: "127.30.0.64", name: "mx.flotsam.example",
			from:    choose(rnd, []string{"parcels@flotsam.example", "billing@flotsam.example"}),
			to:      []string{choose(rnd, staff)},
			subject: choose(rnd, []string{"Your parcel waits", "Invoice 99120", "Voice message"}),
			file:    choose(rnd, []string{simnet.Program, simnet.Packed}),
		})
	}
	for _, hour := range []int{10, 21} { // one within office hours, one after
		if rnd.IntN(2) == 0 {
			add(hour, message{
				listener: "edge", client: "127.30.0.10", name: "mx.saltmarsh.example",
				from: choose(rnd, passengers), to: []string{"accounts@skerryline.example"},
				subject: choose(rnd, []string{"Refund for the night boat", "Refusjon, tur 0740"}),
			})
		}
	}
	add(9, message{
		listener: "inside", client: "127.0.0.1", name: "machine.skerryline.example",
		from: choose(rnd, staff), to: []string{"ada@saltmarsh.example"},
		subject: "Chart of the north channel", file: simnet.Chart,
	})
	add(18, message{
		listener: "inside", client: "127.20.2.3", name: "bridge.skerryline.example",
		from: "bridge@skerryline.example", to: []string{"ines.harrow@skerryline.example"},
		subject: "Logbook, northern boat",
	})
	return out
}

// content is the text of a message.
func (l message) content(n int) []byte {
	var b strings.Builder
	fmt.Fprintf(&b,
		"From: <%s>\r\nTo: <%s>\r\nSubject: %s\r\nDate: %s\r\nMessage-ID: <%d.%d@%s>\r\n", l.from,
		strings.Join(l.to, ">, <"), encoded(l.subject),
		l.at.UTC().Format("Mon, 02 Jan 2006 15:04:05 -0700"), l.at.Unix(), n, l.name)
	var text strings.Builder
	for i := range l.lines {
		text.WriteString(sentences[(n+i)%len(sentences)] + "\r\n")
	}
	b.WriteString(simnet.Attached(l.file, text.String()))
	return []byte(b.String())
}

// encoded writes a subject as RFC 2047 asks for it.
func encoded(subject string) string {
	for _, r := range subject {
		if r >= 0x80 {
			return mime.QEncoding.Encode("utf-8", subject)
		}
	}
	return subject
}

var sentences = []string{
	"The tide is out and the boat waits at the quay.",
	"Please bring the ticket with you, on paper or on your phone.",
	"The crossing takes forty minutes; in a swell a little more.",
	"Bicycles stand on the after deck.",
	"We look forward to having you on board.",
	"The lamp at the north mole is dark tonight.",
}
