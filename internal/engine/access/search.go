package access

import (
	"context"
	"strconv"
	"strings"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapserver"

	"gullroute/internal/core/folder"
	"gullroute/internal/core/ident"
	"gullroute/internal/store"
)

// recent is the flag that RFC 9051 has done away with: no message has it here.
const recent = `\recent`

// search is what the client looks for, with places turned into numbers.
func (r *reading) search(c *imap.SearchCriteria) folder.Search {
	s := folder.Search{
		Since:      c.Since,
		Before:     c.Before,
		SentSince:  c.SentSince,
		SentBefore: c.SentBefore,
		Larger:     c.Larger,
		Smaller:    c.Smaller,
		Body:       c.Body,
		Text:       c.Text,
	}
	for _, set := range c.SeqNum {
		places := make(folder.Ranges, len(set))
		for i, x := range set {
			places[i] = folder.Range{Low: x.Start, High: x.Stop}
		}
		s.UIDs = append(s.UIDs, r.at.view.BySeq(places))
	}
	for _, set := range c.UID {
		s.UIDs = append(s.UIDs, r.at.view.ByUID(r.numbers(set)))
	}
	s.With, s.Keywords = flagTerms(c.Flag)
	s.Without, s.NotKeywords = flagTerms(c.NotFlag)
	for _, f := range c.Header {
		s.Fields = append(s.Fields, folder.Field{Name: f.Key, Value: f.Value})
	}
	for i := range c.Not {
		s.Not = append(s.Not, r.search(&c.Not[i]))
	}
	for i := range c.Or {
		s.Or = append(s.Or, [2]folder.Search{r.search(&c.Or[i][0]), r.search(&c.Or[i][1])})
	}
	return s
}

func flagTerms(list []imap.Flag) (flags folder.Flags, keywords []string) {
	for _, name := range list {
		f, k, err := folder.ParseFlags([]string{string(name)})
		if err != nil { // a flag that no message has
			keywords = append(keywords, recent)
			continue
		}
		flags |= f
		keywords = append(keywords, k...)
	}
	return flags, keywords
}

// Search is SEARCH (RFC 9051 section 6.4.4).
func (r *reading) Search(
	kind imapserver.NumKind,
	c *imap.SearchCriteria,
	o *imap.SearchOptions,
) (*imap.SearchData,
	error) {
	what := r.search(c)
	if !what.Fits() {
		return nil, no(imap.ResponseCodeLimit, "this search has too many terms")
	}
	ctx, cancel := context.WithTimeout(context.Background(), searchTimeout)
	defer cancel()
	if what.ByText() {
		if err := r.server.words(ctx, r.at.folder.ID); err != nil {
			return nil, r.answered(err)
		}
	}
	found, err := r.seeking.Search(ctx, r.at.folder.ID, &what)
	if err != nil {
		return nil, r.answered(err)
	}
	var uids, places []uint32
	for _, uid := range found { // of what came meanwhile the client does not know yet
		if seq := r.at.view.Seq(uid); seq > 0 {
			uids, places = append(uids, uid), append(places, seq)
		}
	}
	if o.ReturnSave {
		r.at.saved = folder.RangesOf(uids)
	}
	data, numbers := &imap.SearchData{Count: uint32(len(uids))}, places
	if kind == imapserver.NumKindUID {
		data.All, numbers = uidSet(folder.RangesOf(uids)), uids
	} else {
		set := imap.SeqSet{}
		for _, x := range folder.RangesOf(places) {
			set = append(set, imap.SeqRange{Start: x.Low, Stop: x.High})
		}
		data.All = set
	}
	if len(numbers) > 0 {
		data.Min, data.Max = numbers[0], numbers[len(numbers)-1]
	}
	return data, nil
}

// searchTimeout bounds a search, with reading the words of messages that have none yet.
const searchTimeout = 5 * searchUnit

const searchUnit = dbTimeout

// wordsAtOnce is how many messages are read for their words at once.
const wordsAtOnce = 200

// words sees that the words of a folder's messages are kept. Who asks while somebody reads
// them waits for that.
func (s *Server) words(ctx context.Context, id int64) error {
	done := s.reading.DoChan(strconv.FormatInt(id, 10), func() (any, error) {
		working, cancel := context.WithTimeout(context.Background(), searchTimeout)
		defer cancel()
		return nil, s.readWords(working, id)
	})
	select {
	case <-ctx.Done():
		return ctx.Err()
	case r := <-done:
		return r.Err
	}
}

func (s *Server) readWords(ctx context.Context, id int64) error {
	seeking := store.Seeking{DB: s.DB}
	for {
		contents, upTo, err := seeking.Wordless(ctx, id, wordsAtOnce)
		if err != nil || upTo == 0 {
			return err
		}
		words, err := s.wordsOf(ctx, contents)
		if err != nil {
			return err
		}
		if err := seeking.KeepWords(ctx, id, upTo, words); err != nil {
			return err
		}
	}
}

// wordsOf reads the words of messages.
func (s *Server) wordsOf(
	ctx context.Context,
	contents []ident.ID,
) (map[ident.ID]folder.Words, error) {
	words := map[ident.ID]folder.Words{}
	if len(contents) == 0 {
		return words, nil
	}
	filed := store.Filed{DB: s.DB}
	pieces, err := filed.FirstPieces(ctx, contents)
	if err != nil {
		return nil, err
	}
	for id, data := range pieces {
		whole := len(data) < store.PieceSize
		for seq := 1; !whole && len(data) < folder.TextRead; seq++ {
			more, err := filed.Piece(ctx, id, seq)
			if err != nil {
				break // there is no more
			}
			data, whole = append(data, more...), len(more) < store.PieceSize
		}
		words[id] = folder.WordsOf(data, whole)
	}
	return words, nil
}

// Words keeps the words of messages in folders that people have opened, so that a search
// need not read them.
func (s *Server) Words(ctx context.Context) error {
	for _, mailbox := range s.Changes.unfiled() {
		if err := (store.Folders{DB: s.DB}).File(ctx, mailbox); err != nil {
			return err
		}
	}
	folders, err := store.Seeking{DB: s.DB}.Behind(ctx, 50)
	if err != nil {
		return err
	}
	for _, id := range folders {
		if err := s.words(ctx, id); err != nil {
			return err
		}
	}
	return nil
}

// lower is how header fields are named.
func lower(names []string) []string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = strings.ToLower(n)
	}
	return out
}
