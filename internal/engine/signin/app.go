package signin

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"strings"
)

// App passwords are made by us, each for one program: 125 random bits need no slow hash.
const (
	appOctets = 25 // as they are written, without hyphens
	appGroup  = 5
)

var appCoding = base32.NewEncoding("abcdefghijkmnpqrstuvwxyz23456789").WithPadding(base32.NoPadding)

// NewAppPassword makes one, as it is shown once.
func NewAppPassword() string {
	raw := make([]byte, 16)
	_, _ = rand.Read(raw)
	text := appCoding.EncodeToString(raw)[:appOctets]
	var groups []string
	for i := 0; i < len(text); i += appGroup {
		groups = append(groups, text[i:i+appGroup])
	}
	return strings.Join(groups, "-")
}

// AppHash is what is kept of an app password; nil of what has not its form. Hyphens and
// spaces do not matter.
func AppHash(password string) []byte {
	text := strings.ToLower(strings.NewReplacer("-", "", " ", "").Replace(password))
	if len(text) != appOctets {
		return nil
	}
	for _, c := range text {
		if !strings.ContainsRune("abcdefghijkmnpqrstuvwxyz23456789", c) {
			return nil
		}
	}
	sum := sha256.Sum256([]byte(text))
	return sum[:]
}
