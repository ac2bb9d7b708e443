package vault

import (
	"bytes"
	"fmt"
	"os"
	"strings"

	"filippo.io/age"
)

// Key opens an encrypted store: a passphrase, or the identities of a key file.
type Key struct {
	file       string
	identities []age.Identity
	recipients []age.Recipient
}

// shortestPassphrase keeps out what can be guessed at once.
const shortestPassphrase = 12

// LoadKey reads a key from a file: identities as age writes them (AGE-SECRET-KEY-1…),
// or else a passphrase on one line.
func LoadKey(file string) (*Key, error) {
	content, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("the store's key: %w", err)
	}
	k := &Key{file: file}
	if !bytes.Contains(content, []byte("AGE-SECRET-KEY-")) {
		return k, k.passphrase(strings.TrimRight(string(content), "\r\n"))
	}
	if k.identities, err = age.ParseIdentities(bytes.NewReader(content)); err != nil {
		return nil, fmt.Errorf("the store's key in %s: %w", file, err)
	}
	for _, i := range k.identities {
		x, ok := i.(*age.X25519Identity)
		if !ok {
			return nil, fmt.Errorf("the store's key in %s: only X25519 identities (AGE-SECRET-KEY-1…) can be used", file)
		}
		k.recipients = append(k.recipients, x.Recipient())
	}
	return k, nil
}

func (k *Key) passphrase(text string) error {
	if len(text) < shortestPassphrase || strings.ContainsAny(text, "\r\n") {
		return fmt.Errorf("the store's key in %s: a passphrase is one line of at least %d characters", k.file, shortestPassphrase)
	}
	i, err := age.NewScryptIdentity(text)
	if err != nil {
		return err
	}
	r, err := age.NewScryptRecipient(text)
	if err != nil {
		return err
	}
	k.identities, k.recipients = []age.Identity{i}, []age.Recipient{r}
	return nil
}

// parseRecipients reads public keys (age1…) that may open a store besides its key.
func parseRecipients(texts []string) ([]age.Recipient, error) {
	var list []age.Recipient
	for _, t := range texts {
		r, err := age.ParseX25519Recipient(strings.TrimSpace(t))
		if err != nil {
			return nil, fmt.Errorf("the public key %q cannot be read: %w; it begins with age1", t, err)
		}
		list = append(list, r)
	}
	return list, nil
}
