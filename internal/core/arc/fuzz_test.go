package arc

import (
	"bytes"
	"testing"

	"gullroute/internal/core/senderauth"
)

func FuzzChains(f *testing.F) {
	f.Add([]byte("ARC-Seal: i=1; cv=none; b=\r\nARC-Seal: i=2\r\n"))
	f.Add([]byte("ARC-Authentication-Results: i = 1 ; x\r\n"))
	f.Fuzz(func(t *testing.T, section []byte) {
		c := Verify(section, bytes.NewReader(section),
			func(string, string) (string, error) { return "v=DKIM1; p=", nil })
		if c != nil && c.Result == senderauth.Pass {
			t.Error("it passed without a key")
		}
	})
}
