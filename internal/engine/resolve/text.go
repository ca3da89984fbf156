package resolve

import (
	"strings"

	"github.com/miekg/dns"
)

// Text is a TXT record in one piece, octet by octet as it stands in DNS: the library writes
// quotes, back-slashes and what is beyond ASCII as zone files do.
func Text(rr *dns.TXT) string {
	var b strings.Builder
	for _, piece := range rr.Txt {
		for k := 0; k < len(piece); k++ {
			if piece[k] == '\\' && k+3 < len(piece) && isDigits(piece[k+1:k+4]) {
				b.WriteByte((piece[k+1]-'0')*100 + (piece[k+2]-'0')*10 + piece[k+3] - '0')
				k += 3
				continue
			}
			if piece[k] == '\\' && k+1 < len(piece) {
				k++
			}
			b.WriteByte(piece[k])
		}
	}
	return b.String()
}

func isDigits(s string) bool {
	return strings.IndexFunc(s, func(r rune) bool { return r < '0' || r > '9' }) < 0
}
