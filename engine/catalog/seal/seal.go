// Package seal encrypts the small secrets that the catalogue keeps, such as the
// password of a cluster.
//
// Invariant: the key never leaves its file, which only its owner may read; what is sealed is bound to its purpose and
// cannot be opened for another one. The keys of an encrypted store are package vault's.
package seal

import (
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/crypto/chacha20poly1305"
)

// Key is the service's own key.
type Key [chacha20poly1305.KeySize]byte

// LoadKey reads the key from a file, making it at first.
func LoadKey(path string) (Key, error) {
	var k Key
	text, err := LoadSecret(path)
	if err != nil {
		return k, err
	}
	raw, err := hex.DecodeString(text)
	if err != nil || len(raw) != len(k) {
		return k, fmt.Errorf("%s does not hold a key of %d bytes in hexadecimal", path, len(k))
	}
	copy(k[:], raw)
	return k, nil
}

// LoadSecret reads 32 random bytes in hexadecimal from a file that only its owner
// may read, making the file at first.
func LoadSecret(path string) (string, error) {
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return makeSecret(path)
	}
	if err != nil {
		return "", err
	}
	if info.Mode().Perm()&0o077 != 0 {
		return "", fmt.Errorf("%s can be read by others (mode %04o); run: chmod 600 %s", path, info.Mode().Perm(), path)
	}
	content, err := os.ReadFile(path)
	return strings.TrimSpace(string(content)), err
}

func makeSecret(path string) (string, error) {
	secret := Random()
	f, err := os.CreateTemp(filepath.Dir(path), filepath.Base(path)+".*") // mode 0600
	if err != nil {
		return "", err
	}
	_, err = f.WriteString(secret + "\n")
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return "", errors.Join(err, os.Remove(f.Name()))
	}
	return secret, os.Rename(f.Name(), path)
}

// Random makes a secret of 32 random bytes in hexadecimal.
func Random() string {
	var raw [32]byte
	_, _ = rand.Read(raw[:]) // never fails
	return hex.EncodeToString(raw[:])
}

// Seal encrypts a secret for a purpose.
func (k Key) Seal(secret, purpose string) ([]byte, error) {
	aead, err := chacha20poly1305.NewX(k[:])
	if err != nil {
		return nil, err
	}
	nonce := make([]byte, aead.NonceSize(), aead.NonceSize()+len(secret)+aead.Overhead())
	_, _ = rand.Read(nonce)
	return aead.Seal(nonce, nonce, []byte(secret), []byte(purpose)), nil
}

// Open decrypts what Seal made for the same purpose; nothing sealed is "".
func (k Key) Open(sealed []byte, purpose string) (string, error) {
	if len(sealed) == 0 {
		return "", nil
	}
	aead, err := chacha20poly1305.NewX(k[:])
	if err != nil {
		return "", err
	}
	if len(sealed) < aead.NonceSize() {
		return "", errors.New("a sealed secret is cut short")
	}
	secret, err := aead.Open(nil, sealed[:aead.NonceSize()], sealed[aead.NonceSize():], []byte(purpose))
	if err != nil {
		return "", errors.New("a sealed secret cannot be opened with this service's key; restore the key file, or register the password " +
			"anew")
	}
	return string(secret), nil
}
