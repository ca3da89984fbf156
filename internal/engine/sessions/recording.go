package sessions

import (
	"strings"
	"sync"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/transcript"
)

// Recording keeps one session while it is open. A nil recording keeps nothing. Its session's
// own goroutine writes it; others may look.
type Recording struct {
	recorder *Recorder
	level    string // of config.Transcripts
	mu       sync.Mutex
	session  mail.Session
	log      *transcript.Log
	watched  bool
	ended    bool
}

// Begin opens the recording of a session. level says whether its transcript is kept.
func (r *Recorder) Begin(s mail.Session, level string) *Recording {
	if r == nil {
		return nil
	}
	s.Node, s.Messages = r.Node, nil
	b := &Recording{recorder: r, level: level, session: s}
	limit := transcript.Usual
	w := r.watches.Load()
	watching := !w.none(s.StartedAt)
	if watching && w.client(s.Address) {
		b.watched, limit = true, transcript.Watched
	} else if watching && len(w.domains) > 0 {
		limit = transcript.Watched // it may turn out to be one of theirs
	}
	if level != config.TranscriptNone || watching {
		b.log = transcript.New(s.StartedAt, limit)
	}
	r.mu.Lock()
	r.open[s.ID] = b
	r.mu.Unlock()
	return b
}

// Say notes what a side said: a line, or several with their ends between.
func (b *Recording) Say(who transcript.Who, text []byte) {
	if b == nil {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.log.Say(time.Now(), who, text)
	if (who == transcript.Client) == (b.session.Direction == mail.In) {
		b.session.BytesIn += int64(len(text)) + 2
	} else {
		b.session.BytesOut += int64(len(text)) + 2
	}
}

// Note notes a sentence of ours.
func (b *Recording) Note(format string, args ...any) {
	if b == nil {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.log.Note(time.Now(), format, args...)
}

// Change changes what is known of the session.
func (b *Recording) Change(f func(s *mail.Session)) {
	if b == nil {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	f(&b.session)
}

// Content notes that content of so many octets went by.
func (b *Recording) Content(octets int64) {
	if b == nil {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.log.Note(time.Now(), "content of %d octets, left out here", octets)
	if b.session.Direction == mail.In {
		b.session.BytesIn += octets
	} else {
		b.session.BytesOut += octets
	}
}

// Touch notes that the session is about a domain, for those who watch it.
func (b *Recording) Touch(domain string) {
	if b == nil {
		return
	}
	w := b.recorder.watches.Load()
	if len(w.domains) == 0 {
		return
	}
	domain = strings.ToLower(domain)
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, d := range w.domains {
		if domain == d || strings.HasSuffix(domain, "."+d) {
			b.watched = true
		}
	}
}

// Now is the session as it stands.
func (b *Recording) Now() mail.SessionRecord {
	b.mu.Lock()
	defer b.mu.Unlock()
	s := mail.SessionRecord{Session: b.session, Transcript: b.log.Bytes()}
	s.Messages = append(s.Messages[:0:0], s.Messages...)
	s.Outcome, s.Seconds, s.TranscriptKept = mail.Open, time.Since(
		s.StartedAt,
	).Seconds(), b.log != nil
	return s
}

// End closes the recording: why the session ended, and whether it broke off.
func (b *Recording) End(why string, broken bool) {
	if b == nil {
		return
	}
	b.mu.Lock()
	if b.ended {
		b.mu.Unlock()
		return
	}
	b.ended = true
	b.session.Ended = why
	b.session.Conclude(time.Now(), broken)
	rec := mail.SessionRecord{Session: b.session}
	if b.watched || b.level == config.TranscriptAll ||
		b.level == config.TranscriptTrouble && rec.Trouble() {
		rec.Transcript = b.log.Bytes()
	}
	rec.TranscriptKept = rec.Transcript != nil
	b.mu.Unlock()
	r := b.recorder
	r.mu.Lock()
	delete(r.open, rec.ID)
	r.ended[rec.ID] = &rec
	r.mu.Unlock()
	r.put(item{session: &rec})
}
