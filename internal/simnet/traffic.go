package simnet

import (
	"bufio"
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"strings"
	"time"
)

// Traffic sends messages of the demo world through our listeners, from the
// addresses of its machines and of hosts in the simulated internet.
type Traffic struct {
	Edge, Inside string
	Seed         uint64
	Burst        int           // messages sent at the same time, at the start
	Every        time.Duration // one more message about so often, afterwards
}

// way is one kind of message; weight is how often it comes.
type way struct {
	weight   int
	inside   bool
	client   string
	from, to []string
	subjects []string
	file     string // a kind of Attached, "" for none
}

var staff = []string{
	"ines.harrow@skerryline.example",
	"tomas.vik@skerryline.example",
	"odile.marr@skerryline.example",
	"wren.castell@skerryline.example",
	"accounts@skerryline.example",
}

var ways = []way{
	{
		30,
		true,
		"127.20.1.5",
		[]string{"tickets@skerryline.example"},
		[]string{
			"ada@saltmarsh.example",
			"bo@saltmarsh.example",
			"cleo@dunlin.example",
			"dag@barelock.example",
			"eli@oldlocks.example",
		},
		[]string{
			"Your ticket for the night boat",
			"Your ticket for the 07:40 to North Skerry",
			"Change of quay today",
		},
		"",
	},
	{
		18,
		false,
		"127.30.0.10",
		[]string{"ada@saltmarsh.example", "bo@saltmarsh.example"},
		append(staff, "info@skerryline.example", "crew@skerryline.example"),
		[]string{
			"Question about bicycles on board",
			"Lost: one grey umbrella",
			"Timetable for December",
			"Thank you",
		},
		"",
	},
	{
		10,
		true,
		"127.20.2.3",
		[]string{"bridge@skerryline.example"},
		[]string{"archive@skerryline.example", "bridge@skerryline.example"},
		[]string{"Bridge log, northern boat", "Bridge log, southern boat"},
		"",
	},
	{
		8,
		false,
		"127.30.0.12",
		[]string{"cleo@dunlin.example"},
		[]string{
			"anders@lightkeepers.example",
			"mette.lund@lightkeepers.example",
			"orders@kelpworks.example",
		},
		[]string{"Lamp oil, forty litres", "Watch list for next week"},
		"",
	},
	{
		6,
		true,
		"127.0.0.1",
		staff,
		[]string{
			"finn@greywacke.example",
			"gro@slowtide.example",
			"hal@ebbandflow.example",
			"ivo@fullshelf.example",
		},
		[]string{"Berth for Thursday", "Invoice 2231", "About the pontoon"},
		"",
	},
	{
		4,
		true,
		"127.0.0.1",
		staff,
		[]string{
			"jo@sunkenpier.example",
			"kit@fogbank.example",
			"liv@strandwatch.example",
			"moa@homelines.example",
			"ned@nosuch.example",
			"ola@hangup.example",
		},
		[]string{"Reminder: harbour dues", "Invoice 2240", "Meeting on the breakwater"},
		"",
	},
	{
		2,
		true,
		"127.0.0.1",
		staff,
		[]string{"pia@lostbuoy.example", "rut@nomail.example", "sol@foghorn.example"},
		[]string{"Are you still there?"},
		"",
	},
	{
		1,
		true,
		"127.20.1.9",
		[]string{"bridge@skerryline.example"},
		[]string{"logs@[127.30.0.60]"},
		[]string{"Bridge log, to the old recorder"},
		"",
	},
	{
		1,
		true,
		"127.20.9.9",
		[]string{"prizes@skerryline.example"},
		[]string{"tove@saltmarsh.example"},
		[]string{"You have won"},
		"",
	},
	{
		1,
		false,
		"127.30.0.24",
		[]string{"nobody@barelock.example"},
		[]string{"x@saltmarsh.example", "nosuchperson@skerryline.example"},
		[]string{"hello"},
		"",
	},
	{
		2,
		false,
		"127.30.0.64",
		[]string{"parcels@flotsam.example", "billing@flotsam.example"},
		staff,
		[]string{"Your parcel waits", "Invoice 99120", "Voice message"},
		Program,
	},
	{
		1,
		false,
		"127.30.0.64",
		[]string{"desk@flotsam.example"},
		[]string{"accounts@skerryline.example"},
		[]string{"Refund of your ticket"},
		Zip,
	},
	{
		2,
		false,
		"127.30.0.65",
		[]string{"offers@undertow.example", "bounce.7@undertow.example"},
		staff,
		[]string{"Lamp oil at half the price", "Last berths of the season"},
		Bulk,
	},
	{
		1,
		true,
		"127.0.0.1",
		staff,
		[]string{"ada@saltmarsh.example"},
		[]string{"Chart of the north channel"},
		Chart,
	},
}

// Run sends until ctx ends. The same seed sends the same messages.
func (t Traffic) Run(ctx context.Context) error {
	rnd := rand.New(rand.NewPCG(t.Seed, 7))
	total := 0
	for _, w := range ways {
		total += w.weight
	}
	for n := 0; ctx.Err() == nil; n++ {
		pick := rnd.IntN(total)
		for _, w := range ways {
			if pick -= w.weight; pick < 0 {
				t.send(rnd, n, w)
				break
			}
		}
		if n < t.Burst {
			continue
		}
		select {
		case <-ctx.Done():
		case <-time.After(t.Every/2 + time.Duration(rnd.Int64N(int64(t.Every)))):
		}
	}
	return nil
}

func one(rnd *rand.Rand, list []string) string { return list[rnd.IntN(len(list))] }

// send hands one message in; a refusal is part of the traffic.
func (t Traffic) send(rnd *rand.Rand, n int, w way) {
	from, to, subject := one(rnd, w.from), one(rnd, w.to), one(rnd, w.subjects)
	lines := 3 + rnd.IntN(60)
	address := t.Edge
	if w.inside {
		address = t.Inside
	}
	d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(w.client)}, Timeout: 5 * time.Second}
	conn, err := d.Dial("tcp", address)
	if err != nil {
		return
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(30 * time.Second))
	br := bufio.NewReader(conn)
	content := fmt.Sprintf(
		"From: <%s>\r\nTo: <%s>\r\nSubject: %s\r\nDate: %s\r\nMessage-ID: "+
			"<demo.%d.%d@%s>\r\n%s",
		from,
		to,
		subject,
		time.Now().Format("Mon, 02 Jan 2006 15:04:05 -0700"),
		n,
		time.Now().UnixNano(),
		from[strings.IndexByte(from, '@')+1:],
		Attached(w.file, strings.Repeat("The tide is out and the boat waits at the quay.\r\n", lines)),
	)
	helo := "machine.skerryline.example"
	if w.file == Bulk {
		helo = "localhost"
	} else if !w.inside {
		helo = "mx." + from[strings.IndexByte(from, '@')+1:]
	}
	for _, line := range []string{"", "EHLO " + helo, "MAIL FROM:<" + from + ">", "RCPT TO:<" + to +
		">", "DATA", content + "."} {
		if line != "" {
			fmt.Fprintf(conn, "%s\r\n", line)
		}
		if !positive(br) {
			break
		}
	}
	fmt.Fprint(conn, "QUIT\r\n")
}

func positive(br *bufio.Reader) bool {
	for {
		line, err := br.ReadString('\n')
		if err != nil || len(line) < 4 {
			return false
		}
		if line[3] != '-' {
			return line[0] == '2' || line[0] == '3'
		}
	}
}
