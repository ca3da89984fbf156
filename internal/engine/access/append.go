package access

import (
	"context"
	"errors"
	"io"
	"time"

	"github.com/emersion/go-imap/v2"

	"gullroute/internal/core/directory"
	"gullroute/internal/core/folder"
	"gullroute/internal/core/message"
)

// maxAppend is how large a message may be that a reader puts into a folder, in octets.
const maxAppend = 100 << 20

// AppendLimit is APPENDLIMIT (RFC 7889).
func (r *desk) AppendLimit() uint32 { return maxAppend }

// errBroken reports that a client left in the middle of a message.
var errBroken = errors.New("the message broke off")

// Append is APPEND. What is larger than the mailbox has room for is not read into it.
func (r *desk) Append(
	name string,
	in imap.LiteralReader,
	o *imap.AppendOptions,
) (*imap.AppendData, error) {
	p, f, err := r.target(name)
	if err != nil {
		return nil, err
	}
	names := make([]string, len(o.Flags))
	for i, n := range o.Flags {
		names[i] = string(n)
	}
	flags, keywords, err := folder.ParseFlags(names)
	if err != nil {
		return nil, no(imap.ResponseCodeCannot, "%v", err)
	}
	if flags&folder.Deleted != 0 && p.may < directory.MayRemove {
		return nil, no(imap.ResponseCodeNoPerm, "you may not delete in this folder")
	}
	if in.Size() == 0 {
		return nil, no(imap.ResponseCodeCannot, "the message is empty")
	}
	if err := r.room(p.box, in.Size(), 1); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(context.Background(), appendTimeout)
	defer cancel()
	first := &firstOctets{in: in}
	item := folder.Item{ID: r.server.IDs.Next(), Received: o.Time, Flags: flags, Keywords: keywords}
	if item.Received.IsZero() {
		item.Received = time.Now()
	}
	if item.Size, err = r.filed.StoreKept(ctx, item.ID, first); err == nil &&
		item.Size != in.Size() {
		err = errBroken
	}
	if err != nil {
		return nil, r.answered(err)
	}
	section, _ := message.SplitHeader(first.seen)
	item.Subject = message.Summarize(section, "").Subject
	uid, err := r.filed.Append(ctx, f, item)
	if err != nil {
		return nil, r.answered(err)
	}
	r.changedHere(p.mailbox())
	return &imap.AppendData{UID: imap.UID(uid), UIDValidity: uint32(f.ID)}, nil
}

// appendTimeout bounds the putting of one message into a folder.
const appendTimeout = 10 * time.Minute

// firstOctets passes content on and keeps its begin.
type firstOctets struct {
	in   io.Reader
	seen []byte
}

// maxSeen is how much of the begin is kept: header sections are shorter, most often.
const maxSeen = 32 << 10

func (f *firstOctets) Read(p []byte) (int, error) {
	n, err := f.in.Read(p)
	if room := maxSeen - len(f.seen); room > 0 {
		f.seen = append(f.seen, p[:min(n, room)]...)
	}
	return n, err
}
