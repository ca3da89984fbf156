package transcript

import (
	"testing"
	"time"
	"unicode/utf8"
)

// FuzzTranscript gives any octets to the reader of transcripts on record, and any lines to
// the writer.
func FuzzTranscript(f *testing.F) {
	f.Add([]byte{1, 's', 0, 3, 'a', 'b', 'c'}, "250 ok\r\nnext \xff")
	f.Add([]byte{0x80, 0x80}, "")
	f.Fuzz(func(t *testing.T, kept []byte, said string) {
		lines, _ := Read(kept)
		l := New(time.Unix(0, 0), 4096)
		l.Say(time.Unix(1, 0), Client, []byte(said))
		more, err := Read(l.Bytes())
		if err != nil {
			t.Errorf("%q is not read back: %v", said, err)
		}
		for _, line := range append(lines, more...) {
			if !utf8.ValidString(line.Text) {
				t.Errorf("%q", line.Text)
			}
		}
	})
}
