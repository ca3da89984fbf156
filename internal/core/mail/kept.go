package mail

import "time"

// Kept is one thing that somebody keeps of how they look at things.
type Kept struct {
	Kind      string         `json:"kind"       enum:"view,table,choice"`
	Name      string         `json:"name"`
	Shared    bool           `json:"shared"     doc:"Everybody sees it"`
	Value     map[string]any `json:"value"`
	By        string         `json:"by"         doc:"Who wrote it last"`
	ChangedAt time.Time      `json:"changed_at"`
}
