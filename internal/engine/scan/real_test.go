package scan

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/form"
	"gullroute/internal/core/gate"
)

// real starts an ICAP server that others wrote, with a service that lets all past and one that
// keeps a phrase back.
func real(t *testing.T) string {
	t.Helper()
	program, err := exec.LookPath("c-icap")
	if err != nil {
		t.Fatal("there is no ICAP server to test with; scripts/test installs it (c-icap)")
	}
	modules, _ := filepath.Glob("/usr/lib/*/c_icap")
	if len(modules) == 0 {
		t.Fatal("the ICAP server's modules are not there")
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := l.Addr().String()
	l.Close()
	dir := t.TempDir()
	text := fmt.Sprintf(`PidFile %[1]s/pid
CommandsSocket %[1]s/ctl
StartServers 1
MaxServers 2
MinSpareThreads 2
MaxSpareThreads 10
ThreadsPerChild 5
Port %[2]s
TmpDir %[1]s
ModulesDir %[3]s
ServicesDir %[3]s
LoadMagicFile /etc/c-icap/c-icap.magic
ServerLog %[1]s/server.log
AccessLog %[1]s/access.log
Service echo srv_echo.so
Service filter srv_content_filtering.so
srv_content_filtering.MaxBodyData 30M
srv_content_filtering.Match lamps body /Free.Lighthouse.Oil/i score=10
acl everyone src 0.0.0.0/0.0.0.0
srv_content_filtering.Profile scan block score{lamps>9}
srv_content_filtering.ProfileOption scan AnyContentType
srv_content_filtering.ProfileAccess scan everyone
`, dir, address, modules[0])
	file := filepath.Join(dir, "icap.conf")
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(program, "-N", "-D", "-d", "1", "-f", file)
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	for range 100 {
		if conn, err := net.Dial("tcp", address); err == nil {
			conn.Close()
			return address
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Fatalf("the ICAP server does not start:\n%s", out.String())
	return ""
}

func TestAScannerThatOthersWroteIsUnderstood(t *testing.T) {
	address := real(t)
	ask := func(service, body string) gate.Verdict {
		t.Helper()
		s := &Scanners{Name: "mail.skerryline.example", Log: slog.New(slog.DiscardHandler),
			Config: func() *config.Compiled {
				return &config.Compiled{Config: &config.Config{Scanners: []config.Scanner{{Name: service, Weight: 1,
					URL: "icap://" + address + "/" + service, Timeout: 10 * time.Second, SizeUpTo: form.Size(30e6)}}}}
			}}
		v := s.Scan(context.Background(), Content{Size: int64(len(body)),
			Open: func() io.Reader { return strings.NewReader(body) }})
		again := s.Scan(context.Background(), Content{Size: int64(len(body)),
			Open: func() io.Reader { return strings.NewReader(body) }}) // over the same connection
		if v != again {
			t.Errorf("%s says %+v, and then %+v", service, v, again)
		}
		return v
	}
	head := "From: <ada@saltmarsh.example>\r\nSubject: tides\r\n\r\n"
	large := head + strings.Repeat("high water at noon, low water at six\r\n", 200_000)
	for _, c := range []struct{ service, body, word string }{
		{"echo", head + "see\r\n", gate.Clean},
		{"echo", head, gate.Clean},
		{"echo", large, gate.Clean},
		{"filter", head + "see\r\n", gate.Clean},
		{"filter", large, gate.Clean},
		{"filter", head + "Free Lighthouse Oil for everybody\r\n", gate.Unwanted},
		{"filter", large + "Free Lighthouse Oil for everybody\r\n", gate.Unwanted},
		{"missing", head, gate.NoAnswer},
	} {
		if v := ask(c.service, c.body); v.Word != c.word {
			t.Errorf("%s about %d octets: %+v, want %s", c.service, len(c.body), v, c.word)
		}
	}
}
