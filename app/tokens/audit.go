package tokens

import (
	"context"
	"io"
	"runtime"
	"time"

	"golang.org/x/sync/errgroup"

	"millgate/app/events"
	"millgate/core/declaration"
	"millgate/core/token"
	"millgate/format/tokenfile"
)

// AuditTokens judges every token of a stream. Keys are fetched once for each
// scheme of the declaration, unless offline. It can be stopped; what was judged
// until then is returned with the error.
func (tk *Tokens) AuditTokens(ctx context.Context, target string, offline bool, r io.Reader,
	progress func(events.AuditProgress)) (token.Audited, error) {
	d, t, err := tk.lookAt(target)
	if err != nil {
		return token.Audited{}, err
	}
	c := token.Context{Now: time.Now(), Doc: d, Of: map[string]token.SchemeKeys{}}
	if t != nil {
		c.Values = t.Values
	}
	if offline {
		t = nil
	}
	for _, s := range d.Schemes {
		if s.Kind != declaration.Bearer || s.Token != "jwt" {
			continue
		}
		k, why := tk.ws.KeysOf(ctx, d, t, s)
		c.Of[s.Name] = token.SchemeKeys{Keys: k.Distinct(), Why: why}
	}
	return AuditStream(ctx, c, r, progress)
}

// batch is how many tokens are looked at in one go.
const Batch = 256

// AuditStream judges every token of a stream in a context: looked at on all cores, taken
// in the order of the lines.
func AuditStream(ctx context.Context, c token.Context, r io.Reader, progress func(events.AuditProgress)) (token.Audited,
	error) {
	au := token.NewAuditor(c)
	type work struct {
		found  []tokenfile.Found
		bytes  int64
		looked chan []token.Looked
	}
	workers := runtime.GOMAXPROCS(0)
	jobs, ordered := make(chan *work), make(chan *work, 2*workers)
	var g errgroup.Group
	g.Go(func() error {
		defer close(ordered)
		defer close(jobs)
		var read int64
		w := &work{looked: make(chan []token.Looked, 1)}
		send := func() bool {
			w.bytes = read
			for _, c := range []chan *work{ordered, jobs} {
				select {
				case c <- w:
				case <-ctx.Done():
					return false
				}
			}
			w = &work{looked: make(chan []token.Looked, 1)}
			return true
		}
		err := tokenfile.Each(r, func(n int64) { read = n }, func(f tokenfile.Found) bool {
			w.found = append(w.found, f)
			return len(w.found) < Batch || send()
		})
		if len(w.found) > 0 && ctx.Err() == nil {
			send()
		}
		return err
	})
	for range workers {
		g.Go(func() error {
			for w := range jobs {
				out := make([]token.Looked, len(w.found))
				for i, f := range w.found {
					out[i] = au.Look(f.Line, f.Text)
				}
				w.looked <- out
			}
			return nil
		})
	}
	var p events.AuditProgress
	told := time.Now()
	for w := range ordered {
		var list []token.Looked
		select {
		case list = <-w.looked:
		case <-ctx.Done():
			continue // what was not looked at is not taken
		}
		for _, l := range list {
			au.Take(l)
			p.Tokens++
		}
		p.Bytes = w.bytes
		if progress != nil && time.Since(told) > 200*time.Millisecond {
			told = time.Now()
			progress(p)
		}
	}
	err := g.Wait()
	if progress != nil {
		progress(p)
	}
	if err == nil {
		err = ctx.Err()
	}
	return au.Report(), err
}
