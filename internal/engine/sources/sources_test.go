package sources

import (
	"context"
	"crypto/x509"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/fault"
	"gullroute/internal/store"
)

// kept keeps copies in memory.
type kept map[string]*store.ListCopy

func (k kept) Copy(_ context.Context, name string) (store.ListCopy, error) {
	if c := k[name]; c != nil {
		return *c, nil
	}
	return store.ListCopy{}, fault.ErrNotFound
}

func (k kept) Mine(_ context.Context, name, source string, since time.Time) (bool, error) {
	c := k[name]
	if c == nil || c.Source != source {
		k[name] = &store.ListCopy{List: name, Source: source, LookedAt: time.Now()}
		return true, nil
	}
	if c.LookedAt.Before(since) {
		c.LookedAt = time.Now()
		return true, nil
	}
	return false, nil
}

func (k kept) Read(_ context.Context, c store.ListCopy) error {
	old := k[c.List]
	old.Entries, old.Hash, old.Skipped, old.Trouble = c.Entries, c.Hash, c.Skipped, ""
	return nil
}

func (k kept) Failed(_ context.Context, name, _, trouble string) error {
	k[name].Trouble = trouble
	return nil
}

func (k kept) Forget(context.Context, []string) error { return nil }

func TestTheLastGoodCopyStaysInForce(t *testing.T) {
	var says atomic.Value
	says.Store("127.40.0.0/16\n# a comment\n127.41.0.1\n")
	web := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch text := says.Load().(string); {
		case strings.HasPrefix(text, "http"):
			http.Redirect(w, r, text, http.StatusFound)
		case text == "":
			w.WriteHeader(http.StatusServiceUnavailable)
		default:
			_, _ = w.Write([]byte(text))
		}
	}))
	defer web.Close()
	file := filepath.Join(t.TempDir(), "words")
	if err := os.WriteFile(file, []byte("spring tide\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	compile := func() *config.Compiled {
		c, err := config.Parse([]byte("service: {host_name: mail.skerryline.example, postmaster: keeper@skerryline.example}\n" +
			"lists:\n  - {name: nets, kind: networks, entries: [127.9.9.9], source: \"" + web.URL + "\"}\n" +
			"  - {name: words, kind: words, source: " + file + "}\n"))
		if err != nil {
			t.Fatal(err)
		}
		return config.Compile(c, 1, directory.New())
	}
	roots := x509.NewCertPool()
	roots.AddCert(web.Certificate())
	c, copies := compile(), kept{}
	r := &Reader{Store: copies, Config: func() *config.Compiled { return c }, Log: slog.New(slog.DiscardHandler), Roots: roots}
	holds := func(ip string) bool {
		_, ok := c.Lists["nets"].Holds(netip.MustParseAddr(ip))
		return ok
	}
	round := func() {
		t.Helper()
		for _, c := range copies {
			c.LookedAt = time.Time{}
		}
		if err := r.Round(context.Background()); err != nil {
			t.Fatal(err)
		}
	}
	round()
	if _, found := c.Lists["words"].Find("the spring tide is high"); !holds("127.40.1.1") || !holds("127.9.9.9") || !found {
		t.Fatal("what was read is not in force")
	}
	for _, bad := range []string{"", "<html>moved</html>", "http://127.0.0.1:1/in-the-clear"} {
		says.Store(bad)
		if round(); !holds("127.40.1.1") || copies["nets"].Trouble == "" {
			t.Errorf("%q took the copy away, or is not told: %q", bad, copies["nets"].Trouble)
		}
	}
	old := c
	c = compile() // a new revision
	c.CarryLists(old)
	if !holds("127.40.1.1") {
		t.Error("a new revision begins with an empty list")
	}
	says.Store("127.50.0.0/16\n")
	if round(); holds("127.40.1.1") || !holds("127.50.0.1") || copies["nets"].Trouble != "" {
		t.Error("what was read anew is not in force")
	}
}
