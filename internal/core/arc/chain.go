// Package arc reads and writes chains of sealed results (RFC 8617): what each server that a
// message was passed on by found of its sender, sealed so that the next can believe it. It asks
// nobody: keys are brought to it.
package arc

import (
	"bytes"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"gullroute/internal/core/message"
	"gullroute/internal/core/senderauth"
)

// maxSets bounds a chain (RFC 8617 section 4.2.1).
const maxSets = 50

// The fields of a set.
const (
	fieldResults = "ARC-Authentication-Results"
	fieldMessage = "ARC-Message-Signature"
	fieldSeal    = "ARC-Seal"
)

// Set is what one server added. Its fields are as they stand, with their line ends.
type Set struct {
	results, message, seal []byte
	resultsText            string // what was found, without the instance
	messageTags, sealTags  senderauth.TagList
	Domain, Selector       string // of the seal
	verdict                string // cv=
}

// errNone reports a message without a chain.
var errNone = errors.New("there is no chain")

// Read finds the sets of a header section, the oldest first. Nothing is verified.
func Read(section []byte) ([]Set, error) {
	byNumber := map[int]*Set{}
	for len(section) > 0 {
		var raw []byte
		raw, section = message.CutField(section)
		name, value, ok := bytes.Cut(raw, []byte(":"))
		kind := strings.ToLower(strings.TrimSpace(string(name)))
		if !ok || !strings.HasPrefix(kind, "arc-") {
			continue
		}
		if err := put(byNumber, kind, raw, unfolded(value)); err != nil {
			return nil, err
		}
	}
	if len(byNumber) == 0 {
		return nil, errNone
	}
	var sets []Set
	for n := 1; n <= len(byNumber); n++ {
		s := byNumber[n]
		if s == nil || s.results == nil || s.message == nil || s.seal == nil {
			return nil, fmt.Errorf("set %d is not complete", n)
		}
		s.Domain, s.Selector = strings.ToLower(s.sealTags.Get("d")), s.sealTags.Get("s")
		s.verdict = s.sealTags.Get("cv")
		sets = append(sets, *s)
	}
	return sets, nil
}

// put adds a field to its set.
func put(sets map[int]*Set, kind string, raw []byte, value string) error {
	var tags senderauth.TagList
	var text string
	switch kind {
	case strings.ToLower(fieldResults):
		number, rest, _ := strings.Cut(value, ";")
		tags, text = senderauth.TagList{{Name: "i", Value: strings.TrimSpace(
			strings.TrimPrefix(
				strings.ReplaceAll(number, " ", ""),
				"i=",
			),
		)}}, strings.TrimSpace(rest)
	case strings.ToLower(fieldMessage), strings.ToLower(fieldSeal):
		var err error
		if tags, err = senderauth.Tags(value); err != nil {
			return fmt.Errorf("%s cannot be read: %w", kind, err)
		}
	default:
		return nil
	}
	n, err := strconv.Atoi(tags.Get("i"))
	if err != nil || n < 1 || n > maxSets {
		return fmt.Errorf("%s has no number from 1 to %d", kind, maxSets)
	}
	s := sets[n]
	if s == nil {
		s = &Set{}
		sets[n] = s
	}
	field := &s.results
	switch kind {
	case strings.ToLower(fieldResults):
		s.resultsText = text
	case strings.ToLower(fieldMessage):
		field, s.messageTags = &s.message, tags
	default:
		field, s.sealTags = &s.seal, tags
	}
	if *field != nil {
		return fmt.Errorf("set %d has %s twice", n, kind)
	}
	*field = raw
	return nil
}

func unfolded(value []byte) string {
	return string(bytes.Join(bytes.FieldsFunc(value, isSpace), []byte(" ")))
}

// sealedText is what the seal of the last of some sets signs (RFC 8617 section 5.1.1).
func sealedText(sets []Set) []byte {
	var b bytes.Buffer
	for i, s := range sets {
		b.Write(relaxedField(s.results))
		b.Write(relaxedField(s.message))
		if i < len(sets)-1 {
			b.Write(relaxedField(s.seal))
			continue
		}
		b.Write(bytes.TrimSuffix(relaxedField(withoutProof(s.seal)), []byte("\r\n")))
	}
	return b.Bytes()
}

// coveredText is what a message signature signs of a header section: the fields it names, each
// from the bottom up, and itself (RFC 6376 section 5.4.2).
func coveredText(section []byte, names []string, relaxed bool, own []byte) []byte {
	byName := map[string][][]byte{}
	for len(section) > 0 {
		var raw []byte
		raw, section = message.CutField(section)
		name, _, _ := bytes.Cut(raw, []byte(":"))
		key := strings.ToLower(strings.TrimRight(string(name), " \t"))
		byName[key] = append(byName[key], raw)
	}
	form := func(raw []byte) []byte {
		if relaxed {
			return relaxedField(raw)
		}
		return raw
	}
	var b bytes.Buffer
	for _, name := range names {
		key := strings.ToLower(strings.TrimSpace(name))
		if list := byName[key]; len(list) > 0 {
			b.Write(form(list[len(list)-1]))
			byName[key] = list[:len(list)-1]
		}
	}
	b.Write(bytes.TrimSuffix(form(withoutProof(own)), []byte("\r\n")))
	return b.Bytes()
}
