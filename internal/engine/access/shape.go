package access

import (
	"bytes"
	"io"
	"mime"
	"strings"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapserver"

	"gullroute/internal/core/folder"
	"gullroute/internal/core/message"
)

// envelope is what ENVELOPE tells of a header section (RFC 9051 section 7.5.2).
func envelope(section []byte) *imap.Envelope { return imapserver.ExtractEnvelope(fields(section)) }

// maxShape bounds how deep parts are told in each other.
const maxShape = 25

// shape is what BODYSTRUCTURE tells of a part and of those within it. Lines are counted as
// the part streams by.
func (c *content) shape(s *folder.Section, depth int) (imap.BodyStructure, error) {
	section, err := c.readSection(s.Start, s.Body)
	if err != nil {
		return nil, err
	}
	h := message.ParseHeader(section)
	extended := func() *imap.BodyStructureSinglePartExt {
		return &imap.BodyStructureSinglePartExt{Disposition: disposition(h), Language: languages(h),
			Location: h.First("Content-Location")}
	}
	kind, sub, _ := strings.Cut(s.Type, "/")
	if s.Multi() && len(s.Within) > 0 && depth < maxShape {
		multi := &imap.BodyStructureMultiPart{
			Subtype: sub,
			Extended: &imap.BodyStructureMultiPartExt{Params: s.Params,
				Disposition: disposition(
					h,
				), Language: languages(h), Location: h.First("Content-Location")},
		}
		for _, inner := range s.Within {
			part, err := c.shape(inner, depth+1)
			if err != nil {
				return nil, err
			}
			multi.Children = append(multi.Children, part)
		}
		return multi, nil
	}
	if sub == "" || kind == "multipart" { // one without parts is text to whoever reads it
		kind, sub = "text", "plain"
	}
	part := &imap.BodyStructureSinglePart{
		Type:    kind,
		Subtype: sub,
		Params:  s.Params,
		ID:      h.First("Content-Id"),
		Description: message.EncodeText(
			message.Decode(h.First("Content-Description")),
		),
		Encoding: s.Encoding,
		Size:     uint32(max(s.End-s.Body, 0)),
		Extended: extended(),
	}
	if kind == "text" && len(part.Params) == 0 { // RFC 2045 section 5.2
		part.Params = map[string]string{"charset": "us-ascii"}
	}
	inner := s.Message()
	if kind != "text" && inner == nil {
		return part, nil
	}
	lines, err := c.lines(s)
	if err != nil {
		return nil, err
	}
	if inner == nil || depth >= maxShape {
		if kind == "text" {
			part.Text = &imap.BodyStructureText{NumLines: lines}
		}
		return part, nil
	}
	within, err := c.shape(inner, depth+1)
	if err != nil {
		return nil, err
	}
	header, err := c.readSection(inner.Start, inner.Body)
	if err != nil {
		return nil, err
	}
	part.MessageRFC822 = &imap.BodyStructureMessageRFC822{
		Envelope:      envelope(header),
		BodyStructure: within,
		NumLines:      lines,
	}
	return part, nil
}

// lines counts the lines of a part.
func (c *content) lines(s *folder.Section) (n int64, err error) {
	in, piece := c.section(s.Body, s.End), make([]byte, 16<<10)
	last := byte('\n')
	for {
		k, err := in.Read(piece)
		n += int64(bytes.Count(piece[:k], []byte("\n")))
		if k > 0 {
			last = piece[k-1]
		}
		if err == io.EOF {
			if last != '\n' {
				n++
			}
			return n, nil
		}
		if err != nil {
			return n, err
		}
	}
}

func disposition(h message.Header) *imap.BodyStructureDisposition {
	value := h.First("Content-Disposition")
	if value == "" {
		return nil
	}
	kind, params, err := mime.ParseMediaType(value)
	if err != nil {
		kind, _, _ = strings.Cut(value, ";")
		kind = strings.TrimSpace(kind)
	}
	if kind == "" {
		return nil
	}
	return &imap.BodyStructureDisposition{Value: kind, Params: params}
}

func languages(h message.Header) (out []string) {
	for l := range strings.SplitSeq(h.First("Content-Language"), ",") {
		if l = strings.TrimSpace(l); l != "" {
			out = append(out, l)
		}
	}
	return out
}
