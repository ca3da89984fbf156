// Package keyfile encrypts what the database keeps and nobody may read there:
// passwords for others' servers, under a key that stays in a file.
package keyfile

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"strings"
)

// ErrNoKey reports that the service was started without a key file.
var ErrNoKey = errors.New("secrets need a key file: start the service with --key-file")

// Box encrypts and decrypts by AES-256-GCM. A nil Box has no key.
type Box struct {
	aead cipher.AEAD
	key  []byte
}

// Open reads a key file, and makes it if there is none: 32 octets in hexadecimal,
// readable by its owner only.
func Open(path string) (*Box, error) {
	if path == "" {
		return nil, nil
	}
	text, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		key := make([]byte, 32)
		if _, err := rand.Read(key); err != nil {
			return nil, err
		}
		text = []byte(hex.EncodeToString(key) + "\n")
		f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		if err != nil {
			return nil, fmt.Errorf("key file: %w", err)
		}
		if _, err = f.Write(text); err == nil {
			err = f.Sync()
		}
		if closeErr := f.Close(); err == nil {
			err = closeErr
		}
		if err != nil {
			return nil, fmt.Errorf("key file: %w", err)
		}
	} else if err != nil {
		return nil, fmt.Errorf("key file: %w", err)
	}
	if info, err := os.Stat(path); err == nil && info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("key file %s can be read by others; chmod 600 %s", path, path)
	}
	key, err := hex.DecodeString(strings.TrimSpace(string(text)))
	if err != nil || len(key) != 32 {
		return nil, fmt.Errorf("key file %s does not hold 32 octets in hexadecimal", path)
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(block)
	return &Box{aead, key}, err
}

// Derived is a key for another purpose, the same on every node with this key file; nil without one.
func (b *Box) Derived(purpose string) []byte {
	if b == nil {
		return nil
	}
	sum := hmac.New(sha256.New, b.key)
	sum.Write([]byte(purpose))
	return sum.Sum(nil)
}

// Encrypt encrypts a text under a name, which must be given again to open it.
func (b *Box) Encrypt(name, text string) ([]byte, error) {
	if b == nil {
		return nil, ErrNoKey
	}
	nonce := make([]byte, b.aead.NonceSize())
	if _, err := rand.Read(nonce); err != nil {
		return nil, err
	}
	return b.aead.Seal(nonce, nonce, []byte(text), []byte(name)), nil
}

// Decrypt decrypts.
func (b *Box) Decrypt(name string, encrypted []byte) (string, error) {
	if b == nil {
		return "", ErrNoKey
	}
	n := b.aead.NonceSize()
	if len(encrypted) < n {
		return "", errors.New("it is damaged")
	}
	text, err := b.aead.Open(nil, encrypted[:n], encrypted[n:], []byte(name))
	if err != nil {
		return "", errors.New("it was encrypted under another key file")
	}
	return string(text), nil
}
