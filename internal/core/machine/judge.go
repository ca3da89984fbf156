package machine

import (
	"fmt"
	"strings"
	"time"

	"gullroute/internal/core/report"
)

// Bounds from which something is looked at, and from which it is bad.
const (
	fewFree, hardlyFree = 0.10, 0.03 // part of a disk or of inodes
	filesMany, filesAll = 0.70, 0.90 // part of the descriptors
	filesLeast          = 4096
	memoryMany          = 0.90
	memoryLeast         = 512 << 20
	fillsLook           = 30 * 24 * time.Hour
	fillsBad            = 5 * 24 * time.Hour
	clockLook, clockBad = 2 * time.Second, 30 * time.Second
	openLook, openBad   = 10 * time.Minute, 2 * time.Hour
	behindLook          = 30 * time.Second
	slowAnswer          = time.Second
	leastPostgreSQL     = 150000
)

// judge collects.
type judge struct{ out []Examined }

func (j *judge) say(area, what string, s State, found, fix string) {
	if s == Well {
		fix = ""
	}
	j.out = append(j.out, Examined{Area: area, What: what, State: s, Found: found, Fix: fix})
}

// pick is Bad or Look where they hold, else Well.
func pick(bad, look bool) State {
	switch {
	case bad:
		return Bad
	case look:
		return Look
	}
	return Well
}

func (j *judge) machine(f *Facts) {
	if m := f.Memory; m.Total > 0 {
		of, all := "the machine's", m.Total
		if m.Limit > 0 && m.Limit < all {
			of, all = "its control group's", m.Limit
		}
		used := 1 - float64(m.Available)/float64(m.Total)
		if m.Limit > 0 && m.Limit < m.Total {
			used = float64(m.Used) / float64(m.Limit)
		}
		j.say(
			"machine",
			"memory",
			pick(used > 0.97, used > memoryMany || all < memoryLeast),
			fmt.Sprintf(
				"%.0f %% of %s %s are used, %s by the service",
				100*used,
				of,
				report.Octets(all),
				report.Octets(m.Used),
			),
			"give it more memory, or take others from the machine: a service that is ended for want of memory "+
				"loses no mail and takes none meanwhile",
		)
	}
	if n := f.Files; n.Limit > 0 {
		part := float64(n.Open) / float64(n.Limit)
		j.say(
			"machine",
			"file descriptors",
			pick(part > filesAll, part > filesMany || n.Limit < filesLeast),
			fmt.Sprintf("%d of %d are open", n.Open, n.Limit),
			"raise the limit (LimitNOFILE=65536 in the unit): each connection takes one",
		)
	}
	if f.Random != nil {
		j.say(
			"machine",
			"random numbers",
			pick(!*f.Random, false),
			map[bool]string{true: "the kernel has them", false: "the kernel has none yet"}[*f.Random],
			"keys and TLS wait for them: give a virtual machine a random number device",
		)
	}
}

func (j *judge) places(places []Place) {
	for _, p := range places {
		what := p.What + " (" + p.Dir + ")"
		if p.Fault != "" {
			j.say("disks", what, Bad, p.Fault, "make room there, and let the service's user write")
			continue
		}
		if p.Size > 0 {
			free := float64(p.Free) / float64(p.Size)
			state := pick(free < hardlyFree, free < fewFree)
			found := fmt.Sprintf("%s free of %s", report.Octets(p.Free), report.Octets(p.Size))
			if p.Fills != nil {
				s, text := p.Fills.judge()
				found += ", " + text
				if order[s] < order[state] {
					state = s
				}
			}
			j.say(
				"disks",
				what,
				state,
				found,
				"make room, or keep things for less time (gull service set "+
					"--retention, --transcripts-kept): gull doctor upkeep says what takes it",
			)
			j.out[len(j.out)-1].Dir = p.Dir
		}
		if p.Inodes > 0 {
			j.say(
				"disks",
				what+", inodes",
				pick(1-p.Inodes < hardlyFree, 1-p.Inodes < fewFree),
				fmt.Sprintf("%.0f %% are used", 100*p.Inodes),
				"remove small files that nobody needs: with none left no file can be made, "+
					"whatever room there is",
			)
		}
		if p.Others {
			j.say("disks", what+", rights", Look, "others on this machine may read what lies there",
				"chmod 700 "+p.Dir)
		}
	}
}

func (j *judge) clock(c Clock, compared bool) {
	if off := c.Off.Abs(); compared {
		j.say(
			"clock",
			ClockAgainst,
			pick(off > clockBad, off > clockLook),
			offBy(c.Off),
			"let both machines set their clocks by NTP (systemd-timesyncd, chrony): dates, "+
				"certificates and schedules go by them",
		)
	}
	switch {
	case c.Kept == nil:
		j.say(
			"clock",
			"whether the clock is kept",
			Unknown,
			"the kernel does not say whether something sets it",
			"",
		)
	default:
		j.say("clock", "whether the clock is kept", pick(false, !*c.Kept),
			map[bool]string{true: "something sets it", false: "nothing sets it"}[*c.Kept],
			"timedatectl set-ntp true, or chrony")
	}
}

// DatabaseState is whether the database does its work.
const DatabaseState = "state"

// ClockAgainst is what our clock is held against.
const ClockAgainst = "clock against the database's"

func offBy(d time.Duration) string {
	switch {
	case d.Abs() < 50*time.Millisecond:
		return "the same"
	case d > 0:
		return fmt.Sprintf("%.1f s ahead", d.Seconds())
	}
	return fmt.Sprintf("%.1f s behind", -d.Seconds())
}

func (j *judge) database(d *Database) {
	if d.Wrong != "" {
		j.say(
			"database",
			DatabaseState,
			Bad,
			d.Wrong,
			"start it, or repair the way to it; gull status says more",
		)
		return
	}
	found := report.Octets(d.Size)
	state := Well
	if d.Grows != nil {
		s, text := d.Grows.judge()
		found += ", " + text
		state = s
	}
	j.say("database", "size", state, found, "make room on its disk, or keep things for less time "+
		"(gull service set --retention)")
	if d.Version > 0 {
		j.say(
			"database",
			"version",
			pick(d.Version < leastPostgreSQL, false),
			fmt.Sprintf(
				"PostgreSQL %d.%d",
				d.Version/10000,
				d.Version%10000,
			),
			"15 or later is needed",
		)
	}
	found = "none for longer than a moment"
	if d.Longest >= time.Minute {
		found = fmt.Sprintf("one for %s, %s", d.Longest.Round(time.Minute), d.LongestN)
	}
	j.say(
		"database",
		"open transactions",
		pick(d.Longest > openBad, d.Longest > openLook),
		found,
		"end it: while it is open, the room of what has left the queue is not used again, and each look at the "+
			"queue takes longer",
	)
	for _, s := range d.Standbys {
		if s.Behind == nil {
			j.say(
				"database",
				"standby "+s.Name,
				Unknown,
				"connected; how far it is behind our role may not see",
				"GRANT pg_monitor TO gull",
			)
			continue
		}
		j.say(
			"database",
			"standby "+s.Name,
			pick(false, *s.Behind > behindLook),
			fmt.Sprintf("%.1f s behind", s.Behind.Seconds()),
			"look at its machine and the way to it: what it does not have would be lost with the primary, unless "+
				"commits wait for it",
		)
	}
	for _, a := range d.Advice {
		j.say("database", "settings", pick(a.Loses, true), a.What, a.Do)
	}
	if len(d.Advice) == 0 {
		j.say("database", "settings", Well, "nothing is to be set otherwise", "")
	}
}

func (j *judge) names(f *Facts) {
	for _, s := range f.Servers {
		if s.Fault != "" {
			j.say("names", "name server "+s.At, Bad, s.Fault,
				"repair it, or name another: gull service set --resolvers")
			continue
		}
		j.say(
			"names",
			"name server "+s.At,
			pick(false, s.Took > slowAnswer),
			fmt.Sprintf("answers within %d ms", s.Took.Milliseconds()),
			"a resolver on this machine or beside it answers faster, and each message asks "+
				"several times",
		)
	}
	for _, n := range f.Names {
		j.say(
			"names",
			n.Name,
			pick(n.Fault != "", false),
			strings.TrimSpace(either(n.Fault, "as it should be")),
			"gull readiness DOMAIN has the records to publish",
		)
	}
}

func (j *judge) ports(ports []Port) {
	for _, p := range ports {
		j.say(
			"ports",
			p.Listener+" at "+p.At,
			pick(p.Fault != "", false),
			either(p.Fault, "answers"),
			"is a firewall or a translation of addresses in between? From elsewhere: gull "+
				"doctor ports HOST",
		)
	}
}

func (j *judge) programs(f *Facts) {
	versions := map[string]bool{}
	var said []string
	for _, p := range f.Programs {
		versions[p.Version] = true
		said = append(said, p.Node+" "+p.Version)
	}
	if len(said) > 0 {
		j.say("programs", "versions", pick(false, len(versions) > 1), strings.Join(said, ", "),
			"upgrade the earlier ones: gull node restart NAME, with the package installed there")
	}
	if k := f.KeyFile; k != nil {
		found := either(k.Fault, "readable by its owner only")
		bad := k.Fault != ""
		if !bad && k.Mode&0o077 != 0 {
			found = fmt.Sprintf("others may read it (%04o)", k.Mode)
		}
		j.say(
			"programs",
			"key file "+k.Path,
			pick(bad, k.Mode&0o077 != 0),
			found,
			"chmod 600 "+k.Path,
		)
	}
}

func either(a, b string) string {
	if a != "" {
		return a
	}
	return b
}
