package main

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"strings"
)

// Sizes of the gates bench.
const (
	gates       = 50
	listEntries = 100_000
	gated       = 6000 // messages of a round
)

// twoFiles is a message of about 30 KB with a text and two attachments.
func twoFiles() []byte {
	var b bytes.Buffer
	b.WriteString("From: <tickets@skerryline.example>\r\nTo: <x@saltmarsh.example>\r\nSubject: Your ticket " +
		"for the night boat\r\nMIME-Version: 1.0\r\nMessage-ID: <bench@skerryline.example>\r\n" +
		"Content-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\nContent-Type: text/plain\r\n\r\n")
	b.WriteString(strings.Repeat("The tide is out and the boat waits at the quay.\r\n", 40))
	for i, media := range []string{"application/pdf", "image/png"} {
		content := messageOf(10_000)[300:]
		head := []string{"%PDF-1.4\n", "\x89PNG\r\n\x1a\n"}[i]
		encoded := base64.StdEncoding.EncodeToString(append([]byte(head), content...))
		fmt.Fprintf(&b, "--b\r\nContent-Type: %s; name=\"file%d\"\r\nContent-Transfer-Encoding: base64\r\n\r\n",
			media, i)
		for len(encoded) > 76 {
			b.WriteString(encoded[:76] + "\r\n")
			encoded = encoded[76:]
		}
		b.WriteString(encoded + "\r\n")
	}
	b.WriteString("--b--\r\n")
	return b.Bytes()
}

// gateConfig is the bench's configuration with ten lists of very many entries and gates of
// which none is met: each must be asked to its end. With content half of them ask for it.
func gateConfig(content bool) string {
	var b strings.Builder
	b.WriteString("lists:\n")
	for i := range 10 {
		kind, entry := "addresses", "a%d@d%d.example"
		switch i % 3 {
		case 1:
			kind, entry = "words", "phrase%d of list%d"
		case 2:
			kind, entry = "networks", "10.%d.%d.0/24"
		}
		fmt.Fprintf(&b, "  - name: list%d\n    kind: %s\n    entries:\n", i, kind)
		for n := range listEntries {
			a, c := n, i
			if kind == "networks" {
				a, c = n/256%256, n%256
			}
			fmt.Fprintf(&b, "      - \""+entry+"\"\n", a, c)
		}
	}
	b.WriteString("gates:\n")
	for i := range gates {
		condition := fmt.Sprintf("{senders: [\"list:list%d\"]}", i%4*3)
		switch {
		case content && i%4 == 1:
			condition = fmt.Sprintf("{body: [\"list:list%d\"]}", []int{1, 4, 7}[i%3])
		case content && i%4 == 3:
			condition = "{attachment: [programs, \"*.iso\"]}"
		case i%2 == 1:
			condition = fmt.Sprintf("{networks: [\"list:list%d\"]}", []int{2, 5, 8}[i%3])
		}
		fmt.Fprintf(&b, "  - {name: gate %d, when: %s, then: {hold: true}}\n", i, condition)
	}
	return strings.Replace(benchConfig, "mailboxes:\n", b.String()+"mailboxes:\n", 1)
}

// gates compares taking messages with fifty gates and without.
func (b *bench) gates() ([]result, error) {
	run := func(text string) (float64, error) {
		st, id, err := b.fresh()
		if err != nil {
			return 0, err
		}
		defer st.Close()
		nd, err := startNodeWith(strings.ReplaceAll(text, "SINK", "127.0.0.1:9"), st, id, false, nil)
		if err != nil {
			return 0, err
		}
		defer nd.stop()
		return load{address: nd.address, connections: connections, messages: gated, content: twoFiles(),
			from: "tickets@skerryline.example", to: "x%d@saltmarsh.example"}.run()
	}
	var without, envelope, content []float64
	for range b.rounds {
		for _, m := range []struct {
			into *[]float64
			text string
		}{{&without, benchConfig}, {&envelope, gateConfig(false)}, {&content, gateConfig(true)}} {
			v, err := run(m.text)
			if err != nil {
				return nil, err
			}
			*m.into = append(*m.into, v)
		}
	}
	reach := func(name string, values []float64, least float64) result {
		v, base, ratios := median(values, without)
		return result{name, "the same without gates", v, base, "messages/s", v / base, ratios,
			fmt.Sprintf(">= %.1f", least), v/base >= least}
	}
	return []result{
		reach("50 gates, 10 lists of 100,000, 30 KB with files", content, 0.6),
		reach("50 gates on the envelope, 10 lists of 100,000", envelope, 0.9),
	}, nil
}
