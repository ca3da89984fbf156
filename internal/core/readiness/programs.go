package readiness

import (
	"fmt"
	"slices"
	"strings"

	"gullroute/internal/core/publish"
)

// Service is one by which people read or send, and where DNS says that it is (RFC 6186, 8314).
type Service struct {
	Name     string // _imaps._tcp
	Host     string
	Port     int
	Priority int      // lower ones are preferred: IMAP before POP3
	Found    []string // "host port" of each SRV record
	Error    string
}

// at is where a service is, as it is found.
func (s *Service) at() string { return fmt.Sprintf("%s %d", s.Host, s.Port) }

// record is the data of its SRV record.
func (s *Service) record() string {
	return fmt.Sprintf("%d 1 %d %s", s.Priority, s.Port, s.Host)
}

// programs says whether mail programs find their settings by themselves.
func (f *Facts) programs() Aspect {
	p := Aspect{
		Key:      "mail-programs",
		Title:    "Settings that mail programs find",
		Weight:   0.25,
		Result:   NotChecked,
		Expected: "an SRV record for each service by which people read and send",
		Says:     "Nobody reads or sends here with a program of his own.",
	}
	if f.Kind == "relay" || len(f.Services) == 0 {
		return p
	}
	var missing, wrong []string
	for i := range f.Services {
		s := &f.Services[i]
		for _, at := range s.Found {
			p.Found = append(p.Found, s.Name+": "+at)
		}
		switch {
		case s.Error != "":
			wrong = append(wrong, s.Name+" cannot be asked for: "+s.Error)
			continue
		case len(s.Found) == 0:
			missing = append(missing, s.Name)
		case !slices.Contains(s.Found, s.at()):
			wrong = append(
				wrong,
				s.Name+" leads to "+strings.Join(s.Found, ", ")+", not to "+s.at(),
			)
		default:
			continue
		}
		p.Records = append(p.Records, publish.New(f.Domain, s.Name+"."+f.Domain, "SRV",
			s.record()))
	}
	switch {
	case len(wrong) > 0:
		p.Result, p.Says = Fail, "Mail programs are led astray: "+strings.Join(wrong, "; ")+"."
	case len(missing) > 0:
		p.Result, p.Says = Warning, "People have to type host and port into their mail "+
			"programs; with "+
			"SRV records for "+strings.Join(
			missing,
			", ",
		)+" these find them by the address (RFC 6186)."
	default:
		p.Result, p.Says = Pass, "Mail programs find host, port and TLS by somebody's address."
	}
	return p
}
