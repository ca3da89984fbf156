package keyfile

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestSecretsOpenUnderTheirKeyAndNameOnly(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key")
	box, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", info, err)
	}
	encrypted, err := box.Encrypt("harbourlight", "lantern-oil")
	if err != nil || strings.Contains(string(encrypted), "lantern") {
		t.Fatalf("%q %v", encrypted, err)
	}
	again, err := Open(path) // as after a restart
	if err != nil {
		t.Fatal(err)
	}
	if text, err := again.Decrypt("harbourlight", encrypted); text != "lantern-oil" || err != nil {
		t.Errorf("%q %v", text, err)
	}
	other, _ := Open(filepath.Join(t.TempDir(), "key"))
	broken := append([]byte{}, encrypted...)
	broken[len(broken)-1] ^= 1
	for what, open := range map[string]func() (string, error){
		"another key":  func() (string, error) { return other.Decrypt("harbourlight", encrypted) },
		"another name": func() (string, error) { return box.Decrypt("elsewhere", encrypted) },
		"damaged":      func() (string, error) { return box.Decrypt("harbourlight", broken) },
		"cut off":      func() (string, error) { return box.Decrypt("harbourlight", encrypted[:5]) },
	} {
		if text, err := open(); err == nil || text != "" {
			t.Errorf("%s: %q", what, text)
		}
	}
	none, err := Open("")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := none.Encrypt("a", "b"); !errors.Is(err, ErrNoKey) {
		t.Errorf("without a key: %v", err)
	}
	if err := os.Chmod(path, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(path); err == nil || !strings.Contains(err.Error(), "can be read by others") {
		t.Errorf("a key that others can read: %v", err)
	}
	short := filepath.Join(t.TempDir(), "short")
	_ = os.WriteFile(short, []byte("abcd\n"), 0o600)
	if _, err := Open(short); err == nil {
		t.Error("a short key is taken")
	}
}
