package workspace

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"millgate/core/declaration"
	"millgate/wire"
)

// longestSecret is how long a mounted secret may be, in bytes: a chain of keys, and no more.
const longestSecret = 64 << 10

// mounted reads a secret from a file where Mill Gate runs, an absolute path or one beside the
// declaration. A file that anybody on the machine can read, or that others than its owner can
// write, is refused: it would be no secret, or somebody else's.
func (ws *Workspace) mounted(path string) (string, error) {
	at := path
	if !filepath.IsAbs(at) {
		dir, _ := ws.Where()
		at = filepath.Join(dir, at)
	}
	i, err := os.Stat(at)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return "", fmt.Errorf("there is no file %s", path)
	case err != nil:
		return "", fmt.Errorf("the file %s cannot be read", path)
	case !i.Mode().IsRegular():
		return "", fmt.Errorf("%s is no file", path)
	case i.Mode().Perm()&0o027 != 0:
		return "", fmt.Errorf("the file %s has mode %04o: everybody can read it, or others write it; chmod 600 %s",
			path, i.Mode().Perm(), path)
	case i.Size() > longestSecret:
		return "", fmt.Errorf("the file %s has %d bytes, which is no secret", path, i.Size())
	}
	b, err := os.ReadFile(at)
	if err != nil {
		return "", fmt.Errorf("the file %s cannot be read", path)
	}
	s := strings.TrimSuffix(strings.TrimSuffix(string(b), "\n"), "\r")
	if s == "" {
		return "", fmt.Errorf("the file %s is empty", path)
	}
	return s, nil
}

// reach is how a target is reached: what it says of certificates and fields, read and filled.
// The errors name the word of the target.
func (ws *Workspace) reach(ctx context.Context, t *declaration.Target) (wire.Options, error) {
	o := wire.Options{Dial: ws.Dial}
	wrong := func(word string, err error) error { return fmt.Errorf("%s of target %s: %w", word, t.Name, err) }
	dir, _ := ws.Where()
	if t.CA.Name != "" {
		b, err := ReadBeside(dir, t.CA.Name)
		if err != nil {
			return o, wrong("`ca`", fmt.Errorf("%s: %w", t.CA.Name, err))
		}
		if o.Roots, err = x509.SystemCertPool(); err != nil {
			o.Roots = x509.NewCertPool()
		}
		if !o.Roots.AppendCertsFromPEM(b) {
			return o, wrong("`ca`", fmt.Errorf("%s holds no certificate in PEM", t.CA.Name))
		}
	}
	if t.Client.Cert.Name != "" {
		cert, err := ReadBeside(dir, t.Client.Cert.Name)
		if err != nil {
			return o, wrong("`client`", fmt.Errorf("%s: %w", t.Client.Cert.Name, err))
		}
		key, err := ws.Secret(ctx, t.Client.Key)
		if err != nil {
			return o, wrong("`client`", err)
		}
		pair, err := tls.X509KeyPair(cert, []byte(key))
		if err != nil {
			return o, wrong("`client`",
				fmt.Errorf("the certificate in %s and its key do not go together, or are no PEM",
					t.Client.Cert.Name))
		}
		o.Shows = []tls.Certificate{pair}
	}
	for _, h := range t.Headers {
		v, err := ws.Secret(ctx, h.Value)
		if err != nil {
			return o, wrong("`headers`", fmt.Errorf("%s: %w", h.Name, err))
		}
		if strings.ContainsAny(v, "\r\n\x00") {
			return o, wrong("`headers`", fmt.Errorf("%s: its value has more than one line", h.Name))
		}
		o.Headers = append(o.Headers, [2]string{h.Name, v})
		if h.Value.Secret() {
			o.Secrets = append(o.Secrets, v)
		}
	}
	return o, nil
}
