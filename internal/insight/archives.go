package insight

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"

	"gullroute/internal/core/archive"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/report"
	"gullroute/internal/inforce"
	"gullroute/internal/store"
)

// Archiver exports what happened in a period, and opens such archives.
type Archiver struct {
	Archives store.Archives
	Messages store.Messages
	Sessions store.Sessions
	InForce  *inforce.State
}

// exportStep is how many records are read together for an export.
const exportStep = 500

// ExportLog writes what happened in a period as an archive, compressed. tell hears
// how far it is, from 0 to 1.
func (s *Archiver) ExportLog(
	ctx context.Context,
	w io.Writer,
	since, until time.Time,
	tell func(float64),
) error {
	z, err := zstd.NewWriter(w, zstd.WithEncoderLevel(zstd.SpeedDefault),
		zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(archive.Window))
	if err != nil {
		return err
	}
	x := exporter{
		on:    s,
		ctx:   ctx,
		w:     z,
		lower: ident.Floor(since),
		upper: ident.Floor(until),
		tell:  tell,
	}
	x.write(archive.About{
		Kind:     archive.Head,
		Version:  archive.Version,
		HostName: string(s.InForce.Config().Service.HostName),
		Node:     s.InForce.Node,
		MadeAt:   time.Now().UTC(),
		Since:    since.UTC(),
		Until:    until.UTC(),
	})
	x.messages()
	x.refusals()
	x.sessions()
	x.write(x.end)
	return errors.Join(x.err, z.Close())
}

type exporter struct {
	on           *Archiver
	ctx          context.Context
	w            io.Writer
	lower, upper ident.ID
	tell         func(float64)
	end          archive.EndLine
	err          error
}

func (x *exporter) write(line any) {
	if x.err != nil {
		return
	}
	text, err := archive.Write(line)
	if err == nil {
		_, err = x.w.Write(text)
	}
	x.err = err
}

// far tells how far one of three parts is.
func (x *exporter) far(part int, id ident.ID) {
	if all := float64(x.upper - x.lower); x.tell != nil && all > 0 {
		x.tell((float64(part) + float64(id-x.lower)/all) / 3)
	}
}

func (x *exporter) messages() {
	for at := x.lower; x.err == nil; {
		list, err := x.on.Messages.MessagesFrom(x.ctx, at, x.upper, exportStep)
		if err != nil || len(list) == 0 {
			x.err = err
			return
		}
		at = list[len(list)-1].ID + 1
		events, err := x.on.Messages.EventsFrom(x.ctx, list[0].ID, at-1)
		if err != nil {
			x.err = err
			return
		}
		for _, m := range list {
			x.write(archive.OfMessage(m, events[m.ID]))
			x.end.Messages++
		}
		x.far(0, at)
	}
}

func (x *exporter) refusals() {
	for at := x.lower; x.err == nil; {
		list, err := x.on.Sessions.RefusalsFrom(x.ctx, at, x.upper, exportStep)
		if err != nil || len(list) == 0 {
			x.err = err
			return
		}
		for _, r := range list {
			x.write(archive.RefusalLine{Kind: archive.Refusal, Refusal: r})
			x.end.Refusals++
			at = r.ID + 1
		}
		x.far(1, at)
	}
}

func (x *exporter) sessions() {
	x.end.Kind = archive.End
	for at := x.lower; x.err == nil; {
		list, lines, err := x.on.Sessions.SessionsFrom(x.ctx, at, x.upper, exportStep)
		if err != nil || len(list) == 0 {
			x.err = err
			return
		}
		for _, s := range list {
			x.write(archive.SessionLine{Kind: archive.Session, Session: s, Transcript: lines[s.ID]})
			x.end.Sessions++
			at = s.ID + 1
		}
		x.far(2, at)
	}
}

// Bounds of an archive that is opened. What compresses better than any archive of
// ours is made to do harm.
const (
	maxArchive      = 64 << 30 // octets, uncompressed
	maxArchiveLine  = 8 << 20
	maxRatio        = 300
	ratioFrom       = 256 << 20
	archiveBlock    = 1 << 20
	archiveWorkers  = 2
	maxFaults       = 20
	maxArchiveSums  = 40_000
	archiveWindow   = 32 << 20 // of the compression
	archivesKeptFor = 14 * 24 * time.Hour
)

// ErrArchive reports a file that is not opened.
var ErrArchive = errors.New("this file cannot be opened")

// OpenLog reads an archive, compressed or not, and makes it ready to be
// looked into. Lines that are damaged are left out and counted.
func (s *Archiver) OpenLog(
	ctx context.Context,
	r io.Reader,
	name, who string,
) (archive.Info, error) {
	id, err := s.Archives.BeginArchive(ctx, name, who)
	if err != nil {
		return archive.Info{}, err
	}
	hash := sha256.New()
	o := &opener{
		on:     s,
		ctx:    ctx,
		id:     id,
		info:   archive.Info{ID: id, Name: name, Faults: []string{}},
		blocks: make(chan lines, 1),
	}
	err = o.read(io.TeeReader(r, hash))
	if err == nil {
		var info archive.Info
		if info, err = s.Archives.EndArchive(ctx, o.info, hash.Sum(nil)); err == nil {
			return info, s.Archives.ForgetArchives(ctx, time.Now().Add(-archivesKeptFor))
		}
	}
	forget, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
	defer cancel()
	_ = s.Archives.CloseArchive(forget, id)
	return archive.Info{}, err
}

// lines are some lines of one kind, to be read and kept.
type lines struct {
	kind string
	seq  int
	nums []int64
	text []byte
}

type opener struct {
	on     *Archiver
	ctx    context.Context
	id     int64
	info   archive.Info
	blocks chan lines
	rooms  sync.Pool // of texts that are done with

	mu    sync.Mutex // of what workers find
	err   error
	whole bool
}

// counter counts what was read of the compressed file.
type counter struct {
	r io.Reader
	n int64
}

// Read counts.
func (c *counter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}

func (o *opener) read(r io.Reader) error {
	raw := &counter{r: r}
	br := bufio.NewReaderSize(raw, 1<<20)
	var text io.Reader = br
	packed := false
	if magic, _ := br.Peek(4); bytes.Equal(magic, []byte{0x28, 0xb5, 0x2f, 0xfd}) {
		z, err := zstd.NewReader(br, zstd.WithDecoderConcurrency(1),
			zstd.WithDecoderMaxWindow(archiveWindow))
		if err != nil {
			return err
		}
		defer z.Close()
		text, packed = z, true
	}
	ctx, cancel := context.WithCancel(o.ctx)
	defer cancel()
	var workers sync.WaitGroup
	for range archiveWorkers {
		workers.Go(func() { o.work(ctx) })
	}
	err := o.split(text, raw, packed)
	close(o.blocks)
	workers.Wait()
	if err == nil {
		err = o.err
	}
	if err == nil && o.info.About.Kind == "" {
		return fmt.Errorf("%w: its first line is not that of an archive made by gull log export",
			ErrArchive)
	}
	if err == nil && !o.whole {
		o.fault(
			o.info.Lines,
			"the archive ends here, before its last line: it was cut off, or something is still "+
				"writing it",
		)
	}
	return err
}

// split takes the text apart into lines, and gives them on by kind.
func (o *opener) split(text io.Reader, raw *counter, packed bool) error {
	br := bufio.NewReaderSize(text, 256<<10)
	building := map[string]*lines{}
	seq := map[string]int{}
	flush := func(b *lines) error {
		select {
		case o.blocks <- *b:
		case <-o.ctx.Done():
			return o.ctx.Err()
		}
		delete(building, b.kind)
		o.mu.Lock()
		defer o.mu.Unlock()
		return o.err
	}
	var line []byte
	for {
		var size int64
		var err error
		line, size, err = readLine(br, line[:0])
		o.info.Bytes += size
		if size == 0 && err != nil {
			if err != io.EOF {
				o.fault(o.info.Lines+1, "the file is damaged from here on: "+err.Error())
			}
			break
		}
		o.info.Lines++
		switch {
		case o.info.Bytes > maxArchive:
			return fmt.Errorf("%w: it has more than %d GB when unpacked", ErrArchive,
				maxArchive>>30)
		case packed && o.info.Bytes > ratioFrom && o.info.Bytes/max(raw.n, 1) > maxRatio:
			return fmt.Errorf("%w: %d octets unpack to more than %d; no archive is like that",
				ErrArchive, raw.n, o.info.Bytes)
		case size > maxArchiveLine:
			o.fault(o.info.Lines,
				fmt.Sprintf("the line has %d octets; at most %d are read", size, maxArchiveLine))
			if o.info.Lines == 1 {
				return fmt.Errorf("%w: its first line has %d octets; it is no archive", ErrArchive,
					size)
			}
			continue
		}
		kind := archive.KindOf(line)
		if o.info.Lines == 1 {
			if err := json.Unmarshal(line, &o.info.About); err != nil ||
				o.info.About.Kind != archive.Head {
				return fmt.Errorf(
					"%w: its first line is not that of an archive made by gull log export",
					ErrArchive,
				)
			}
			if v := o.info.About.Version; v != archive.Version {
				return fmt.Errorf(
					"%w: it is of version %d of the form, and this service reads version %d",
					ErrArchive,
					v,
					archive.Version,
				)
			}
			continue
		}
		switch kind {
		case archive.Message, archive.Refusal, archive.Session:
		case archive.End:
			o.whole = true
			continue
		default:
			o.fault(o.info.Lines, "not a line of an archive")
			continue
		}
		b := building[kind]
		if b == nil {
			b = &lines{kind: kind, seq: seq[kind], text: o.room()}
			seq[kind]++
			building[kind] = b
		}
		b.text, b.nums = append(b.text, line...), append(b.nums, o.info.Lines)
		if len(b.text) >= archiveBlock {
			if err := flush(b); err != nil {
				return err
			}
		}
	}
	for _, b := range building {
		if err := flush(b); err != nil {
			return err
		}
	}
	return nil
}

// room is for the text of a block.
func (o *opener) room() []byte {
	if b, ok := o.rooms.Get().(*[]byte); ok {
		return (*b)[:0]
	}
	return make([]byte, 0, archiveBlock+archiveBlock/16)
}

// readLine reads one line with its end. Of a line that is too long only the
// beginning is kept, whatever its length.
func readLine(br *bufio.Reader, line []byte) ([]byte, int64, error) {
	var size int64
	for {
		part, err := br.ReadSlice('\n')
		size += int64(len(part))
		if size <= maxArchiveLine {
			line = append(line, part...)
		}
		if size > maxArchive {
			return line, size, nil
		}
		switch err {
		case nil:
			return line, size, nil
		case bufio.ErrBufferFull:
		default:
			return append(line, '\n'), size, err
		}
	}
}

func (o *opener) fault(line int64, text string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.info.Damaged++
	if len(o.info.Faults) < maxFaults {
		o.info.Faults = append(o.info.Faults, fmt.Sprintf("line %d: %s", line, text))
	}
}

// work reads lines, counts them and keeps them.
func (o *opener) work(ctx context.Context) {
	var counts report.Count
	for b := range o.blocks {
		if err := o.keep(ctx, b, &counts); err != nil {
			o.mu.Lock()
			o.err = errors.Join(o.err, err)
			o.mu.Unlock()
		}
		if cap(b.text) <= 2*archiveBlock {
			o.rooms.Put(&b.text)
		}
		if counts.Len() > maxArchiveSums {
			o.keepSums(ctx, &counts)
		}
	}
	o.keepSums(ctx, &counts)
}

func (o *opener) keepSums(ctx context.Context, counts *report.Count) {
	if err := o.on.Archives.AddArchiveSums(ctx, o.id, counts); err != nil {
		o.mu.Lock()
		o.err = errors.Join(o.err, err)
		o.mu.Unlock()
	}
	counts.Reset()
}

func (o *opener) keep(ctx context.Context, b lines, counts *report.Count) error {
	out := store.ArchiveBlock{Kind: b.kind, Seq: b.seq, First: 1<<63 - 1}
	kept := b.text[:0] // what is not damaged moves up
	for i, rest := 0, b.text; len(rest) > 0; i++ {
		end := bytes.IndexByte(rest, '\n') + 1
		line := rest[:end]
		rest = rest[end:]
		id, err := readOne(b.kind, line[:end-1], counts)
		if err != nil {
			o.fault(b.nums[i], err.Error())
			continue
		}
		out.First, out.Last = min(out.First, id), max(out.Last, id)
		kept = append(kept, line...)
	}
	if out.Data = kept; len(kept) == 0 {
		return nil
	}
	return o.on.Archives.AddArchiveBlock(ctx, o.id, out)
}

func readOne(kind string, line []byte, counts *report.Count) (ident.ID, error) {
	count := func(f *mail.Found, events []mail.Event) {
		for _, fact := range report.Of(f, events) {
			counts.Add(fact)
		}
	}
	switch kind {
	case archive.Message:
		f, events, err := archive.ReadCounted(line)
		if err != nil {
			return 0, err
		}
		count(f, events)
		return f.ID, nil
	case archive.Refusal:
		r, err := archive.ReadRefusal(line)
		if err != nil {
			return 0, err
		}
		f := mail.FoundRefusal(r)
		count(&f, nil)
		return r.ID, nil
	}
	if !json.Valid(line) {
		return 0, errors.New("not a line of an archive: broken JSON")
	}
	id, ok := archive.FirstID(line)
	if !ok {
		return 0, errors.New("a session without an id")
	}
	return id, nil
}

// List are the archives that are open.
func (s *Archiver) List(ctx context.Context) ([]archive.Info, error) { return s.Archives.List(ctx) }

// Opened is an opened archive.
func (s *Archiver) Opened(ctx context.Context, id int64) (archive.Info, error) {
	list, err := s.List(ctx)
	for _, a := range list {
		if a.ID == id {
			a.Known = true
			return a, nil
		}
	}
	return archive.Info{}, errors.Join(err, store.ErrNotFound)
}

// ByHash is the open archive that was made of a file with this SHA-256.
func (s *Archiver) ByHash(ctx context.Context, hash []byte) (archive.Info, error) {
	return s.Archives.ArchiveByHash(ctx, hash)
}

// Close forgets an archive.
func (s *Archiver) Close(ctx context.Context, id int64) error {
	return s.Archives.CloseArchive(ctx, id)
}
