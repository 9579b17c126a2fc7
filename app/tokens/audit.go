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
	w Watch) (token.Audited, error) {
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
	return AuditStream(ctx, c, r, w)
}

// Watch hears of an audit while it goes on; what is nil hears nothing. Each is told of every token
// in the order of the lines; an error of it ends the audit.
type Watch struct {
	Progress func(events.AuditProgress)
	Each     func(token.Told) error
}

// batch is how many tokens are looked at in one go.
const Batch = 256

// AuditStream judges every token of a stream in a context: looked at on all cores, taken
// in the order of the lines.
func AuditStream(ctx context.Context, c token.Context, r io.Reader, watch Watch) (token.Audited, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	au := token.NewAuditor(c)
	jobs, ordered := make(chan *work), make(chan *work, 2*runtime.GOMAXPROCS(0))
	var g errgroup.Group
	g.Go(func() error {
		defer close(ordered)
		defer close(jobs)
		return deal(ctx, r, ordered, jobs)
	})
	for range runtime.GOMAXPROCS(0) {
		g.Go(func() error {
			for w := range jobs {
				w.looked <- w.look(au)
			}
			return nil
		})
	}
	var p events.AuditProgress
	progress, told := watch.Progress, time.Now()
	var unheard error // of who is told of each
	for w := range ordered {
		var list []token.Looked
		select {
		case list = <-w.looked:
		case <-ctx.Done():
			continue // what was not looked at is not taken
		}
		for _, l := range list {
			p.Tokens++
			if watch.Each == nil {
				au.Count(l)
				continue
			}
			if what, ok := au.Take(l); ok && unheard == nil {
				if unheard = watch.Each(what); unheard != nil {
					cancel()
				}
			}
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
	if unheard != nil {
		err = unheard
	}
	return au.Report(), err
}

// work is what is looked at in one go.
type work struct {
	found  []tokenfile.Found
	bytes  int64 // read until there
	looked chan []token.Looked
}

func (w *work) look(au *token.Auditor) []token.Looked {
	out := make([]token.Looked, len(w.found))
	for i, f := range w.found {
		if f.Text == "" {
			out[i] = au.LookTooLong(f.Line, f.Size)
			continue
		}
		out[i] = au.Look(f.Line, f.Text)
	}
	return out
}

// deal reads a stream and deals out what it finds, to each in the order of the lines.
func deal(ctx context.Context, r io.Reader, to ...chan<- *work) error {
	var read int64
	w := &work{looked: make(chan []token.Looked, 1)}
	send := func() bool {
		w.bytes = read
		for _, c := range to {
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
}
