package config

import (
	"path/filepath"
	"strings"
	"time"
)

// TextLog says where the service's log, and what happens to messages, is kept as text by day.
type TextLog struct {
	Directory string        `yaml:"directory" doc:"On each node's machine; none keeps no text log. A file for each node and day, in JSON Lines, compressed when its day is over"`
	Keep      time.Duration `yaml:"keep" min:"24h" default:"30d" doc:"How long days are kept"`
}

// DailyArchive says where days are archived before they are forgotten.
type DailyArchive struct {
	Directory string        `yaml:"directory" doc:"On the node's machine; none archives nothing. A file for each day, as gull log export writes it"`
	At        string        `yaml:"at" default:"03:30" doc:"Hour and minute in UTC at which the day before is archived"`
	Keep      time.Duration `yaml:"keep" min:"24h" default:"400d" doc:"How long archives are kept"`
	Node      string        `yaml:"node" doc:"The node that does it; if none is given, the first by name that runs"`
}

// When is hour and minute as a part of the day.
func (d *DailyArchive) When() time.Duration {
	at, err := time.Parse("15:04", d.At)
	if err != nil {
		return 0
	}
	return time.Duration(at.Hour())*time.Hour + time.Duration(at.Minute())*time.Minute
}

// checkRecords looks at directories and hours.
func checkRecords(s *Service, fault func(field, text string)) {
	for field, dir := range map[string]string{"log.directory": s.Log.Directory,
		"archive.directory": s.Archive.Directory} {
		if dir != "" &&
			(!filepath.IsAbs(dir) || filepath.Clean(dir) != strings.TrimSuffix(dir, "/")) {
			fault(field, "write the whole path, like /var/lib/gull/archive")
		}
	}
	if _, err := time.Parse("15:04", s.Archive.At); err != nil {
		fault("archive.at", "write hour and minute, like 03:30")
	}
	if s.Log.Directory != "" && s.Log.Directory == s.Archive.Directory {
		fault("archive.directory", "text logs and archives need directories of their own")
	}
}
