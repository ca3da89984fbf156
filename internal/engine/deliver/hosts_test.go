package deliver

import (
	"strings"
	"testing"

	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
)

func TestHostsAreDrawnByTheirWeight(t *testing.T) {
	r := &config.Route{Choose: "by_weight", Weights: []int{3, 1, 0}}
	hosts := []string{"a", "b", "c"}
	first := map[string]int{}
	for range 4000 {
		order := byWeight(r, hosts)
		if len(order) != 3 || strings.Join(hosts, "") != "abc" {
			t.Fatalf("%v of %v", order, hosts)
		}
		first[order[0]]++
	}
	if first["a"] < 2700 || first["a"] > 3300 || first["c"] != 0 {
		t.Errorf("%v", first)
	}
	if got := byWeight(&config.Route{}, hosts); strings.Join(got, "") != "abc" {
		t.Errorf("in order: %v", got)
	}
}

func TestWhichFailuresASmartHostMayFix(t *testing.T) {
	for cause, want := range map[diagnose.Cause]bool{diagnose.ResidentialAddress: true,
		diagnose.BlockListed: true, diagnose.ConnectTimeout: true, diagnose.TLSRequired: true,
		diagnose.NoSuchUser: false, diagnose.NoSuchDomain: false, diagnose.MailboxFull: false, diagnose.Greylisted: false, diagnose.ContentRefused: false} {
		if SmartHostMayHelp(cause) != want {
			t.Errorf("%s: %v", cause, !want)
		}
	}
}

func TestAHostThatCannotProveThePasswordGetsNoMail(t *testing.T) {
	// A host that only pretends: its challenge does not continue our nonce.
	s := &script{
		ehlo:    []string{"AUTH SCRAM-SHA-256"},
		replies: map[string]string{"AUTH": "334 cj1mYWtlLHM9QUFBQUFBQUFBQUE9LGk9NDA5Ng=="},
	}
	c, err := config.Parse(
		[]byte(
			"service:\n  host_name: mail.skerryline.example\n  postmaster: a@saltmarsh.example\n  " +
				"timeouts: {command: 1s, greeting: 1s}\n",
		),
	)
	if err != nil {
		t.Fatal(err)
	}
	conn := dialScript(t, s, c)
	_, failure := signInTalk{conn}.signInScram("skerryline", "lantern-oil", []string{"SCRAM-SHA-256"})
	if failure == nil || failure.Permanent || !strings.Contains(failure.Reply.Text, "could not prove") {
		t.Errorf("%+v", failure)
	}
	s = &script{
		replies: map[string]string{
			"AUTH":             "334 VXNlcm5hbWU6",
			"c2tlcnJ5bGluZQ==": "334 UGFzc3dvcmQ6",
			"bGFudGVybi1vaWw=": "235 2.7.0 welcome",
		},
	}
	conn = dialScript(t, s, c)
	if r, failure := (signInTalk{conn}).signInLogin("skerryline",
		"lantern-oil"); failure != nil || r.Code != 235 {
		t.Errorf("LOGIN: %v %+v, heard %q", r, failure, s.heard)
	}
}

// dialScript opens a connection to a scripted host, past its hello.
func dialScript(t *testing.T, s *script, c *config.Config) *Conn {
	t.Helper()
	client := NewClient(config.Compile(c, 1, nil), Options{})
	conn, failure := client.Connect(t.Context(), &config.Route{NextHop: config.HopSmartHost, TLS: "off"},
		s.serve(t), 0)
	if failure != nil {
		t.Fatal(failure)
	}
	t.Cleanup(conn.Close)
	return conn
}
