package tokens

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"millgate/app/fault"
	"millgate/core/token"
	"millgate/store"
)

// keptToken is put before the names of kept tokens, apart from other secrets.
const keptToken = "token:"

// KeepToken seals a token under a name, until it is forgotten.
func (tk *Tokens) KeepToken(ctx context.Context, name, text string) error {
	name = strings.TrimSpace(name)
	if name == "" || len(name) > 80 {
		return fmt.Errorf("%w: give it a name of at most 80 characters", fault.ErrInput)
	}
	t := token.Decode(text)
	if t.Kind == token.Empty {
		return fmt.Errorf("%w: there is no token in it", fault.ErrInput)
	}
	err := tk.store.Seal(ctx, keptToken+name, t.Raw)
	if errors.Is(err, store.ErrNoDirectory) {
		return fmt.Errorf("%w: %w; start Mill Gate with --data DIR", fault.ErrInput, err)
	}
	return err
}

// KeptTokens are the names of kept tokens.
func (tk *Tokens) KeptTokens(ctx context.Context) ([]string, error) {
	return tk.store.SealedNames(ctx, keptToken)
}

// ForgetToken removes a kept token.
func (tk *Tokens) ForgetToken(ctx context.Context, name string) error {
	err := tk.store.Forget(ctx, keptToken+name)
	if errors.Is(err, store.ErrNotFound) {
		return fmt.Errorf("%w: no token is kept as %q", fault.ErrNotFound, name)
	}
	return err
}
