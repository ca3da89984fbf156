package receive

import (
	"bufio"
	"io"
	"strconv"
	"strings"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/smtp"
	"gullroute/internal/engine/spool"
	"gullroute/internal/store"
)

// chunkTalk is the part of a session in which a message comes in pieces (BDAT, RFC 3030).
type chunkTalk struct{ *session }

// chunks are those of a message that have come.
type chunks struct {
	spool  *spool.Spool
	size   int64       // of all of them, also of what is not kept
	failed *smtp.Reply // what all that follow are told; nil while all is well
}

// maxChunkDigits bounds the size of a chunk as it is written.
const maxChunkDigits = 18

// bdat is BDAT: the octets behind it are read in any case, or what they are would be commands.
func (se chunkTalk) bdat(arg string) smtp.Reply {
	size, last, ok := chunkSize(arg)
	limit := int64(se.conf.Limits.MessageSize)
	switch {
	case !ok:
		se.closeFor("the client sent a chunk of a size that cannot be read")
		return smtp.NewReply(
			501,
			"5.5.4",
			"write BDAT, the number of octets, and LAST at the last; "+
				"closing, for what follows cannot be told apart",
		)
	case size > 2*limit+contentStep:
		se.closeFor("the message was far too large")
		return smtp.NewReply(552, "5.3.4",
			"the chunk has %d octets; %d are allowed here; closing", size, limit)
	}
	if se.chunks == nil {
		se.chunks = &chunks{failed: se.mayBegin()}
		if se.chunks.failed == nil {
			se.chunks.spool = spool.New(se.server.SpoolDir, int(min(size, limit)), store.PieceSize)
		}
	}
	if r := se.read(size, limit); r != nil {
		return *r
	}
	c := se.chunks
	switch {
	case c.failed != nil && (last || se.mail == nil):
		return contentTalk(se).answer(*c.failed)
	case c.failed != nil:
		return *c.failed
	case !last:
		return smtp.NewReply(250, "2.0.0", "%d octets are taken; %d in all", size, c.size)
	}
	content := smtp.NewPlainReader(bufio.NewReader(c.spool.Open()))
	return contentTalk(se).receive(content)
}

// chunkSize reads "SIZE" or "SIZE LAST".
func chunkSize(arg string) (size int64, last, ok bool) {
	number, rest, more := strings.Cut(arg, " ")
	if more && !strings.EqualFold(rest, "LAST") || number == "" || len(number) > maxChunkDigits ||
		strings.Trim(number, "0123456789") != "" {
		return 0, false, false
	}
	size, err := strconv.ParseInt(number, 10, 64)
	return size, more, err == nil
}

// mayBegin says why no message can come now; nil if it may.
func (se chunkTalk) mayBegin() *smtp.Reply {
	if !se.extended {
		r := se.fault(smtp.NewReply(503, "5.5.1", "say EHLO first"))
		return &r
	}
	if r := contentTalk(se).nobody(); r != nil {
		return r
	}
	return contentTalk(se).closed()
}

// read takes the octets of a chunk. It gives a reply only where the session ends with it.
func (se chunkTalk) read(size, limit int64) *smtp.Reply {
	if se.buf == nil {
		se.buf = make([]byte, 16<<10)
	}
	c, left, step := se.chunks, size, int64(0)
	contentTalk(se).extend()
	for left > 0 {
		n, err := se.br.Read(se.buf[:min(int64(len(se.buf)), left)])
		left -= int64(n)
		c.size += int64(n)
		if step += int64(n); step >= contentStep { // one octet at a time gains no time
			contentTalk(se).extend()
			step = 0
		}
		if n > 0 && c.failed == nil && c.size <= limit {
			if _, err := c.spool.Write(se.buf[:n]); err != nil {
				se.log.Error("content could not be spooled", "error", err)
				r := smtp.NewReply(452, "4.3.1",
					"there is no room for the message now; try again later")
				se.refuseMessage(refused{cause: diagnose.OurTrouble, reply: r, size: c.size})
				c.failed = &r
			}
		}
		if err == nil && c.size > 2*limit+contentStep && c.failed != nil {
			return contentTalk(se).cutOff(nil)
		}
		if err != nil {
			if err == io.EOF {
				err = io.ErrUnexpectedEOF
			}
			return contentTalk(se).cutOff(err)
		}
	}
	se.record.Content(size)
	if c.failed == nil && c.size > limit {
		r := smtp.NewReply(552, "5.3.4",
			"the message has %d octets and more; %d are allowed here", c.size, limit)
		se.refuseMessage(refused{cause: diagnose.TooLarge, reply: r, size: c.size})
		r = se.weigh(r, 1)
		c.failed = &r
	}
	return nil
}
