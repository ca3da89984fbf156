package api

import "gullroute/internal/core/mail"

// ActionRequest asks for something to be done with messages.
type ActionRequest struct {
	Verb      string         `json:"verb" enum:"hold,release,flush,reroute,expire,return,drop,change-domain"`
	Selection mail.Selection `json:"filter"`
	All       bool           `json:"all,omitempty" doc:"Needed where no filter is given"`
	Why       string         `json:"why,omitempty" maxLength:"500" doc:"Kept on record"`
	// Of reroute.
	Route string `json:"route,omitempty" doc:"reroute: by this route"`
	Host  string `json:"host,omitempty" doc:"reroute: to this host or host:port"`
	Keep  bool   `json:"keep,omitempty" doc:"reroute: until they are gone; else for one attempt"`
	// Of expire.
	ExpireAfter string `json:"expire_after,omitempty" doc:"expire: so long from now (3d), so much later or earlier (+1d, -12h), or schedule for what the schedule says"`
	// Of return.
	Say string `json:"say,omitempty" maxLength:"500" doc:"return: the sentence that the sender reads"`
	// Of change-domain.
	Domain string `json:"domain,omitempty" doc:"change-domain: the right domain"`
	// Sure confirms a second time, for drop.
	Sure   bool `json:"sure,omitempty" doc:"drop: needed, after a dry run said how many"`
	DryRun bool `json:"dry_run,omitempty" doc:"Only say how many messages it would touch"`
}

// Done is what an action came to.
type Done struct {
	Action  int64  `json:"action" doc:"Its number on record; 0 after a dry run"`
	DryRun  bool   `json:"dry_run,omitempty"`
	Matched int64  `json:"matched" doc:"Deliveries that the filter selects"`
	Touched int64  `json:"touched"`
	Sending int64  `json:"sending" doc:"Deliveries left alone because they were being sent"`
	Text    string `json:"text" doc:"The outcome in a sentence"`
}

// StopRequest asks for something to be paused or to go on.
type StopRequest struct {
	Kind string `json:"kind" enum:"lane,route,listener,node,delivery,account"`
	Name string `json:"name,omitempty" doc:"A lane's id, or a name; nothing for delivery"`
	Why  string `json:"why,omitempty" maxLength:"500"`
	For  string `json:"for,omitempty" doc:"Ends by itself after this: 30m, 2h"`
}

// Restart asks a node to begin anew.
type Restart struct {
	Why string `json:"why,omitempty" maxLength:"500" doc:"Kept in the audit log"`
}

// Restarting is the answer to it.
type Restarting struct {
	Node string `json:"node"`
	Text string `json:"text"`
}
