package tlsterms

import (
	"bytes"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/x509"
	"errors"
	"fmt"
)

// TLSA is a record by which DNS names a host's certificate (RFC 6698).
type TLSA struct {
	Usage    uint8 // 2 names an authority, 3 the certificate itself
	Selector uint8 // 0 is the whole certificate, 1 its key
	Matching uint8 // 0 is as it is, 1 its SHA-256, 2 its SHA-512
	Data     []byte
}

// DANE is what DNS says of a host's certificate.
type DANE struct {
	Secure  bool // the way from the domain to the records is signed
	Records []TLSA
	Fault   string // they may be there, and could not be had: nobody may be told otherwise
}

// Of RFC 6698.
const (
	usageAuthority = 2
	usageHost      = 3
)

// Usable are the records that mail can go by (RFC 7672 section 3.1.3): those of the two usages
// that ask no public authority, and whose forms are known.
func Usable(all []TLSA) []TLSA {
	var out []TLSA
	for _, r := range all {
		length := map[uint8]int{0: len(r.Data), 1: sha256.Size, 2: sha512.Size}
		n, known := length[r.Matching]
		if (r.Usage == usageAuthority || r.Usage == usageHost) && r.Selector <= 1 && known &&
			len(r.Data) == n && n > 0 {
			out = append(out, r)
		}
	}
	return out
}

// Matches reports whether a record names a certificate.
func (r TLSA) Matches(c *x509.Certificate) bool {
	data := c.Raw
	if r.Selector == 1 {
		data = c.RawSubjectPublicKeyInfo
	}
	switch r.Matching {
	case 1:
		sum := sha256.Sum256(data)
		data = sum[:]
	case 2:
		sum := sha512.Sum512(data)
		data = sum[:]
	}
	return bytes.Equal(data, r.Data)
}

// VerifyPinned checks the certificates that a host shows against records. Of a record that names
// the certificate itself neither name nor dates count (RFC 7672 section 3.1.1).
func VerifyPinned(records []TLSA, shown []*x509.Certificate, names []string) error {
	if len(shown) == 0 {
		return errors.New("the host showed no certificate")
	}
	var fault error
	for _, r := range records {
		if r.Usage == usageHost {
			if r.Matches(shown[0]) {
				return nil
			}
			continue
		}
		if err := underAuthority(r, shown, names); err == nil {
			return nil
		} else if fault == nil || !errors.Is(err, errStrange) {
			fault = err
		}
	}
	if fault != nil && !errors.Is(fault, errStrange) {
		return fault
	}
	return fmt.Errorf("none of %d records in DNS names the certificate that it shows", len(records))
}

var errStrange = errors.New("no certificate of the chain is named")

// underAuthority checks that the certificate stands under the authority that a record names.
func underAuthority(r TLSA, shown []*x509.Certificate, names []string) error {
	for i, c := range shown {
		if !r.Matches(c) {
			continue
		}
		options := x509.VerifyOptions{Roots: x509.NewCertPool(), Intermediates: x509.NewCertPool()}
		options.Roots.AddCert(c)
		for _, between := range shown[1:max(i, 1)] {
			options.Intermediates.AddCert(between)
		}
		var err error
		for _, name := range names {
			options.DNSName = name
			if _, err = shown[0].Verify(options); err == nil {
				return nil
			}
		}
		return err
	}
	return errStrange
}
