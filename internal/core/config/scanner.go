package config

import (
	"fmt"
	"net/url"
	"time"
)

// Scanner is a scanner beside us, asked by ICAP (RFC 3507). Gates ask for its verdict.
type Scanner struct {
	Line     int
	Name     string        `yaml:"name" required:"true"`
	URL      string        `yaml:"url" required:"true" doc:"Like icap://127.0.0.1:1344/scan"`
	Off      bool          `yaml:"off" doc:"Not asked for now"`
	Weight   int           `yaml:"weight" min:"1" max:"1000" default:"1" doc:"Of several, how often it is asked first; the others are asked if it does not answer"`
	Timeout  time.Duration `yaml:"timeout" min:"100ms" default:"10s" doc:"For one message, all in all"`
	SizeUpTo Size          `yaml:"size_up_to" min:"1024" default:"25 MB" doc:"Larger messages are not shown to it"`
}

func (k *checker) scanners() {
	names := map[string]int{}
	for i := range k.c.Scanners {
		s := &k.c.Scanners[i]
		field := fmt.Sprintf("scanners[%d]", i)
		k.unique(names, s.Line, field+".name", s.Name)
		u, err := url.Parse(s.URL)
		switch {
		case err != nil || u.Host == "" || u.Scheme != "icap":
			k.wrong(s.Line, field+".url", "write a URL like icap://127.0.0.1:1344/scan")
		case u.User != nil:
			k.wrong(s.Line, field+".url", "a name and password do not belong into a URL: it is shown to "+
				"everyone")
		}
	}
}
