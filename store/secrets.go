package store

// Rule: What is sealed opens with the key of its directory alone.

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/crypto/chacha20poly1305"
	"gorm.io/gorm/clause"
)

// Secret is a value sealed with the key of the data directory.
type Secret struct {
	Name   string `gorm:"primaryKey"`
	Sealed []byte
}

// ErrNoDirectory says that secrets cannot be kept in a store without a data
// directory.
var ErrNoDirectory = errors.New("kept secrets need a data directory")

// key reads the data directory's key, making it the first time. Whoever may
// read the directory may read the secrets; a copied database alone gives none.
func (s *Store) key() ([]byte, error) {
	if s.dir == "" {
		return nil, ErrNoDirectory
	}
	path := filepath.Join(s.dir, "secrets.key")
	k, err := os.ReadFile(path)
	if err == nil && len(k) == chacha20poly1305.KeySize {
		return k, nil
	}
	if err == nil {
		return nil, fmt.Errorf("the key of kept secrets at %s cannot be used: it has %d bytes in place of %d; put "+
			"the right file back, or remove it and keep the secrets again", path, len(k), chacha20poly1305.KeySize)
	}
	if !errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("the key of kept secrets cannot be read: %w", err)
	}
	k = make([]byte, chacha20poly1305.KeySize)
	_, _ = rand.Read(k) // crypto/rand never fails
	return k, os.WriteFile(path, k, 0o600)
}

// Seal keeps a secret under a name.
func (s *Store) Seal(ctx context.Context, name, value string) error {
	k, err := s.key()
	if err != nil {
		return err
	}
	a, err := chacha20poly1305.NewX(k)
	if err != nil {
		return err
	}
	nonce := make([]byte, a.NonceSize())
	_, _ = rand.Read(nonce)
	return s.at(ctx).Clauses(clause.OnConflict{UpdateAll: true}).Create(&Secret{Name: name,
		Sealed: a.Seal(nonce, nonce, []byte(value), []byte(name))}).Error
}

// Unseal returns a kept secret, ErrNotFound when there is none.
func (s *Store) Unseal(ctx context.Context, name string) (string, error) {
	var x Secret
	if err := s.at(ctx).Take(&x, "name = ?", name).Error; err != nil {
		return "", found(err)
	}
	k, err := s.key()
	if err != nil {
		return "", err
	}
	a, err := chacha20poly1305.NewX(k)
	if err != nil {
		return "", err
	}
	if len(x.Sealed) < a.NonceSize() {
		return "", fmt.Errorf("the kept secret %s is damaged", name)
	}
	p, err := a.Open(nil, x.Sealed[:a.NonceSize()], x.Sealed[a.NonceSize():], []byte(name))
	if err != nil {
		return "", fmt.Errorf("the kept secret %s cannot be opened with this directory's key", name)
	}
	return string(p), nil
}

// SealedNames are the names of kept secrets that begin with prefix, without
// it, in order.
func (s *Store) SealedNames(ctx context.Context, prefix string) ([]string, error) {
	var all []string
	if err := s.at(ctx).Model(&Secret{}).Where("substr(name, 1, ?) = ?", len(prefix), prefix).Order("name").
		Pluck("name", &all).Error; err != nil {
		return nil, err
	}
	for i := range all {
		all[i] = strings.TrimPrefix(all[i], prefix)
	}
	return all, nil
}

// Forget removes a kept secret, ErrNotFound when there is none.
func (s *Store) Forget(ctx context.Context, name string) error {
	r := s.at(ctx).Delete(&Secret{}, "name = ?", name)
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	return r.Error
}
