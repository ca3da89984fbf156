package mail

import "time"

// Role is what somebody may do; core/rights says what that is.
type Role string

// The roles.
const (
	Administrator Role = "administrator"
	Operator      Role = "operator"
	Auditor       Role = "auditor"
	Viewer        Role = "viewer"
)

// Person is somebody who administers.
type Person struct {
	Name       string    `json:"name"`
	Role       Role      `json:"role" enum:"administrator,operator,auditor,viewer"`
	Domains    []string  `json:"domains,omitempty" doc:"He sees and does only what is about them; none is no bound"`
	About      string    `json:"about,omitempty"`
	Off        bool      `json:"off,omitempty" doc:"May not sign in"`
	MustChange bool      `json:"must_change,omitempty" doc:"Chooses a new password at the next sign-in"`
	MadeAt     time.Time `json:"made_at"`
	MadeBy     string    `json:"made_by"`
	PasswordAt time.Time `json:"password_at" doc:"When the password was chosen"`
	LastAt     OptTime   `json:"last_at" nullable:"true" doc:"The last sign-in; null is never"`
	LastFrom   string    `json:"last_from,omitempty" doc:"Where it came from"`
	Sessions   int       `json:"sessions" doc:"Open ones"`
	Second     bool      `json:"second_factor,omitempty" doc:"He signs in with a code of a second factor"`
	Passkeys   int       `json:"passkeys,omitempty" doc:"So many of his open this server"`
	Issuer     string    `json:"issuer,omitempty" doc:"The provider of single sign-on that says who he is; he has no password here"`
}

// PersonSession is one that somebody who administers has open.
type PersonSession struct {
	ID        int64     `json:"id"`
	Name      string    `json:"name" doc:"Whose"`
	MadeAt    time.Time `json:"made_at"`
	LastAt    time.Time `json:"last_at" doc:"The last use, within a minute"`
	ExpiresAt time.Time `json:"expires_at"`
	Client    string    `json:"client" doc:"Address"`
	Program   string    `json:"program" doc:"As it calls itself"`
	Way       Way       `json:"way" enum:"password,passkey,single sign-on" doc:"How it began"`
	Mine      bool      `json:"mine,omitempty" doc:"The one that asks"`
}

// Way is how somebody signed in.
type Way string

// The ways.
const (
	ByPassword     Way = "password"
	ByPasskey      Way = "passkey"
	BySingleSignOn Way = "single sign-on"
)

// Passkey is a key that somebody who administers has in a telephone, a computer or a stick.
type Passkey struct {
	ID     string    `json:"id"`
	Name   string    `json:"name" doc:"As its owner calls it"`
	MadeAt time.Time `json:"made_at"`
	LastAt OptTime   `json:"last_at" nullable:"true" doc:"The last sign-in by it; null is never"`
}

// Token lets a program in.
type Token struct {
	ID       int64     `json:"id"`
	Name     string    `json:"name"`
	Role     Role      `json:"role" enum:"administrator,operator,auditor,viewer"`
	Domains  []string  `json:"domains,omitempty" doc:"It sees and does only what is about them; none is no bound"`
	About    string    `json:"about,omitempty"`
	MadeAt   time.Time `json:"made_at"`
	MadeBy   string    `json:"made_by"`
	EndsAt   OptTime   `json:"ends_at" nullable:"true" doc:"null is never"`
	LastAt   OptTime   `json:"last_at" nullable:"true" doc:"The last use, within a minute; null is never"`
	LastFrom string    `json:"last_from,omitempty"`
}
