package api

// NewAppPassword is a password for one program, the only time that it is shown.
type NewAppPassword struct {
	Mailbox  string `json:"mailbox"`
	Name     string `json:"name"`
	Password string `json:"password"`
}
