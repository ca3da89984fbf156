package api

import (
	"time"

	"gullroute/internal/core/mail"
	"gullroute/internal/core/rights"
)

// PersonNew is somebody who is to administer.
type PersonNew struct {
	Name     string    `json:"name" minLength:"1" maxLength:"61" doc:"Small letters, digits, dots and hyphens"`
	Role     mail.Role `json:"role" enum:"administrator,operator,auditor,viewer"`
	Domains  []string  `json:"domains,omitempty" maxItems:"100" doc:"He sees and does only what is about them"`
	About    string    `json:"about,omitempty" maxLength:"200"`
	Password string    `json:"password,omitempty" maxLength:"1000" doc:"One is made if it is not given, to be changed at the first sign-in"`
}

// PersonChange is what is to be changed of somebody; what is not given stays.
type PersonChange struct {
	Role     *mail.Role `json:"role,omitempty" enum:"administrator,operator,auditor,viewer"`
	Domains  *[]string  `json:"domains,omitempty" doc:"An empty list takes the bounds away"`
	About    *string    `json:"about,omitempty" maxLength:"200"`
	Off      *bool      `json:"off,omitempty" doc:"May not sign in; his sessions end"`
	Password *string    `json:"password,omitempty" maxLength:"1000" doc:"A new one, to be changed at the next sign-in; empty makes one. His sessions end"`
	// NoSecond takes the second factor away.
	NoSecond bool `json:"remove_second_factor,omitempty" doc:"Take his second factor away: his telephone was lost"`
}

// PersonMade is somebody, and the password that was made.
type PersonMade struct {
	mail.Person
	Password string `json:"password,omitempty" doc:"That was made, shown this once"`
}

// TokenNew is a token to make.
type TokenNew struct {
	Name    string     `json:"name" minLength:"1" maxLength:"60" doc:"What it is for"`
	Role    mail.Role  `json:"role" enum:"administrator,operator,auditor,viewer"`
	Domains []string   `json:"domains,omitempty" maxItems:"100" doc:"It sees and does only what is about them"`
	About   string     `json:"about,omitempty" maxLength:"200"`
	Ends    *time.Time `json:"ends_at,omitempty" doc:"It lasts for good if this is not given"`
}

// TokenMade is a token and its value.
type TokenMade struct {
	mail.Token
	Value string `json:"value" doc:"The token itself, shown this once"`
}

// Me is somebody who is signed in.
type Me struct {
	Name string    `json:"name"`
	Role mail.Role `json:"role" enum:"administrator,operator,auditor,viewer"`
	// Program says that it is a token, no person.
	Program    bool          `json:"program,omitempty" doc:"A token, no person"`
	MustChange bool          `json:"must_change,omitempty" doc:"A new password must be chosen first"`
	MustSecond bool          `json:"must_have_second_factor,omitempty" doc:"A second factor or a passkey must be set up first"`
	Way        mail.Way      `json:"way,omitempty" enum:"password,passkey,single sign-on" doc:"How one signed in"`
	May        []rights.Area `json:"may" doc:"What the role allows"`
	Domains    rights.Bounds `json:"domains,omitempty" doc:"One sees and does only what is about them"`
}

// SignedIn is who is signed in now.
type SignedIn struct {
	Me
	Token string     `json:"token,omitempty" doc:"Of a program's session"`
	Ends  *time.Time `json:"ends_at,omitempty" doc:"When the session ends"`
}

// SecondFactor is one's own second factor.
type SecondFactor struct {
	On       bool   `json:"on"`
	Recovery int    `json:"recovery_codes" doc:"So many are left"`
	Secret   string `json:"secret,omitempty" doc:"To be typed into a program that makes codes, shown this once"`
	URI      string `json:"uri,omitempty" doc:"The same as an address for such programs"`
	Picture  string `json:"picture,omitempty" doc:"The same as a picture to be looked at by a telephone: a PNG as a data address"`
}

// RecoveryCodes each stand for a code of the second factor, once.
type RecoveryCodes struct {
	Codes []string `json:"codes" doc:"Shown this once"`
}

// SignInWays are the ways besides name and password by which one may sign in.
type SignInWays struct {
	SingleSignOn string `json:"single_sign_on,omitempty" doc:"What people know the provider by"`
	Mailboxes    bool   `json:"mailboxes,omitempty" doc:"It opens the pages of people's own mailboxes"`
	Link         string `json:"link" doc:"How people reach the console; passkeys open it there only"`
}

// PasskeyAsked is a question for the browser, and what goes back with its answer.
type PasskeyAsked struct {
	Options  any    `json:"options" doc:"For navigator.credentials, in its JSON form (WebAuthn level 3)"`
	Ceremony string `json:"ceremony" doc:"Goes back with the answer, within five minutes"`
}

// PasskeyMade is a new passkey.
type PasskeyMade struct {
	mail.Passkey
	Codes []string `json:"codes,omitempty" doc:"For recovery, each once, shown this once: where there were none"`
}
