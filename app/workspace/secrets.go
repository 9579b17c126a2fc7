package workspace

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"millgate/app/fault"
	"millgate/core/declaration"
	"millgate/core/token"
	"millgate/store"
	"millgate/wire"
)

// Secrets look up env:NAME, kept:NAME and file:PATH for who presents them.
func (ws *Workspace) Secrets(ctx context.Context) wire.Secrets {
	return func(v declaration.Value) (string, error) { return ws.Secret(ctx, v) }
}

// Secret looks up env:NAME, kept:NAME and file:PATH.
func (ws *Workspace) Secret(ctx context.Context, v declaration.Value) (string, error) {
	switch {
	case v.Env != "":
		s, ok := os.LookupEnv(v.Env)
		if !ok {
			return "", fmt.Errorf("the environment variable %s is not set where Mill Gate runs", v.Env)
		}
		return s, nil
	case v.Kept != "":
		s, err := ws.store.Unseal(ctx, v.Kept)
		if errors.Is(err, store.ErrNotFound) {
			return "", fmt.Errorf("nothing is kept under %s; run  millgate keep %s", v.Kept, v.Kept)
		}
		return s, err
	case v.File != "":
		return ws.mounted(v.File)
	}
	return v.Literal, nil
}

// KeepSecret seals a secret under a name in a data directory, also while another
// process works with it.
func KeepSecret(ctx context.Context, dataDir, name, value string) error {
	st, err := store.Open(dataDir) //nolint:contextcheck // its tables are made whole
	if err != nil {
		return err
	}
	if st.ReadOnly() != "" {
		return errors.Join(fmt.Errorf("nothing was kept: %s", st.ReadOnly()), st.Close())
	}
	return errors.Join(st.Seal(ctx, name, value), st.Close())
}

// Connect is a connection to a target for a few requests.
func (ws *Workspace) Connect(ctx context.Context, d *declaration.Document, t *declaration.Target) (*wire.Client,
	*wire.Keyring, error) {
	if t == nil {
		return nil, nil, fmt.Errorf("%w: the declaration has no target", fault.ErrInput)
	}
	c, err := ws.Client(ctx, t, "")
	if err != nil {
		return nil, nil, err
	}
	c.Hear(d)
	return c, wire.NewKeyring(d, t, c, ws.Secrets(ctx)), nil
}

// KeysOf gathers what tokens of a scheme are verified with; why says where
// from, or why there are none.
func (ws *Workspace) KeysOf(ctx context.Context, d *declaration.Document, t *declaration.Target,
	s *declaration.Scheme) (k token.Keys, why string) {
	if s == nil {
		return k, "no scheme of the declaration is meant"
	}
	switch {
	case s.Keys.Secret != (declaration.Value{}):
		v, err := ws.Secret(ctx, s.Keys.Secret)
		if err != nil {
			return k, err.Error()
		}
		return token.Keys{Secret: []byte(v)}, "the secret of the declaration"
	case s.Keys.File != "":
		dir, _ := ws.Where()
		b, err := os.ReadFile(filepath.Join(dir, filepath.Base(s.Keys.File)))
		if err != nil {
			return k, "the file " + s.Keys.File + " cannot be read"
		}
		return readKeys(b, s.Keys.File)
	case s.Keys.JWKS != "":
		if t == nil {
			return k, "the declaration has no target to ask for keys"
		}
		ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
		defer cancel()
		c, err := ws.Client(ctx, t, "")
		if err != nil {
			return k, err.Error()
		}
		defer c.Close()
		return fetchKeys(ctx, c, s.Keys.JWKS)
	}
	return k, "the scheme " + s.Name + " says no keys"
}

// fetchKeys reads a JWK set, or a discovery document that says where it is
// (RFC 8414 section 2), as long as that is at the target.
func fetchKeys(ctx context.Context, c *wire.Client, at string) (token.Keys, string) {
	host, path := "", at
	if i := strings.Index(at, ":/"); i > 0 {
		host, path = at[:i], at[i+1:]
	}
	b, err := c.Fetch(ctx, host, path)
	if err != nil {
		return token.Keys{}, err.Error()
	}
	var doc struct {
		JWKSURI string `json:"jwks_uri"`
	}
	if json.Unmarshal(b, &doc) == nil && doc.JWKSURI != "" {
		host, path, ok := c.HostOf(doc.JWKSURI)
		if !ok {
			return token.Keys{}, "the discovery document leads to " + doc.JWKSURI + ", which is no host of the target"
		}
		if b, err = c.Fetch(ctx, host, path); err != nil {
			return token.Keys{}, err.Error()
		}
		at = doc.JWKSURI
	}
	return readKeys(b, at)
}

func readKeys(b []byte, from string) (token.Keys, string) {
	k, said, err := token.ReadKeys(b)
	if err != nil {
		return k, from + ": " + err.Error()
	}
	why := from
	if len(said) > 0 {
		why += " (" + strings.Join(said, "; ") + ")"
	}
	return k, why
}

// Client is a connection to a target; base replaces the target's when it is not empty.
func (ws *Workspace) Client(ctx context.Context, t *declaration.Target, base string) (*wire.Client, error) {
	o, err := ws.reach(ctx, t)
	if err != nil {
		return nil, err
	}
	o.Base = base
	return wire.NewClient(ctx, t, wire.NewMasker(ws.maskKey), o)
}
