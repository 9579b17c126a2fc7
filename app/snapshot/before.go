package snapshot

import (
	"bytes"
	"cmp"
	"encoding/json"
	"strings"

	"millgate/core/check"
	"millgate/core/check/credential"
	"millgate/core/check/crossing"
	"millgate/core/check/detour"
	"millgate/core/check/issued"
	"millgate/core/check/logins"
	"millgate/core/check/malformed"
	"millgate/core/check/pages"
	"millgate/core/check/quotas"
	"millgate/core/check/raised"
	"millgate/core/check/sessions"
	"millgate/core/check/undeclared"
	"millgate/core/quota"
	"millgate/core/session"
)

// before is what facts had beside that in versions before.
type before struct {
	Raised   string       `json:"raised"`   // where a raised role was seen
	SameSite string       `json:"sameSite"` // of a cookie
	Token    *check.Given `json:"token"`    // what was given out
	Then     []struct {   // what the route's follow-ups were answered
		Request  string         `json:"request"` // as the declaration has it
		As       string         `json:"as"`
		Exchange check.Exchange `json:"exchange"`
		Lost     string         `json:"lost"` // why it was not sent
	} `json:"then"`
}

// Decode reads the fact of a probe as it is stored, sent as an identity.
func Decode(id, identity string, b []byte, families check.Families) (*Fact, error) {
	f := Fact{Exchange: &check.Exchange{}}
	if err := unmarshal(b, &f); err != nil {
		return nil, err
	}
	if f.Check == nil {
		var old before
		if err := json.Unmarshal(b, &old); err != nil {
			return nil, err
		}
		switch {
		case old.Token != nil:
			f.Check = issued.Before(old.Token)
			return &f, nil
		case strings.HasPrefix(id, pages.Family{}.Name()+"|") && f.Lost == "":
			return &f, f.pageBefore(b)
		case strings.HasPrefix(id, logins.Family{}.Name()+"|") && f.Lost == "":
			return &f, f.loginBefore(b)
		case strings.HasPrefix(id, quotas.Family{}.Name()+"|") && f.Lost == "":
			return &f, f.quotaBefore(b)
		case strings.HasPrefix(id, raised.Family{}.Name()+"|") && f.Lost == "":
			f.Check = raised.Before(*f.Exchange, f.Repeats, f.Record, old.Raised)
			f.First()
			return &f, nil
		case OnRecord(id) != "" && f.Lost == "":
			f.recordBefore(OnRecord(id), identity, old)
			return &f, nil
		case bytes.Contains(b, []byte(`"drill":`)):
			return &f, f.asBefore(b)
		}
		return &f, nil
	}
	if err := f.Check.Read(families); err != nil {
		// What cannot be read is no reason to lose the rest: it can be probed again.
		f.Lost = "what was seen cannot be judged by this version: " + err.Error() + "; probe it again"
	}
	f.First()
	return &f, nil
}

// SameProbe is the id by which a probe goes today. Versions before named a session drill
// after the neighbour as well, and a quota drill after who logs in, behind all that names
// it now; what asks for a page was no crossing; and what the inventory does not have was of
// three kinds.
func SameProbe(id string) string {
	const parts = 7
	if rest, ok := strings.CutPrefix(id, "accept|"); ok {
		return crossing.Family{}.Name() + "|" + rest
	}
	for _, what := range []string{undeclared.Path, undeclared.Method, undeclared.Address} {
		if rest, ok := strings.CutPrefix(id, what+"|"); ok {
			return undeclared.Family{}.Name() + "|" + rest + what
		}
	}
	if !strings.HasPrefix(id, sessions.Family{}.Name()+"|") && !strings.HasPrefix(id, quotas.Family{}.Name()+"|") {
		return id
	}
	at := 0
	for n := range parts {
		k := strings.IndexByte(id[at:], '|')
		if k < 0 {
			return id
		}
		if at += k + 1; n == parts-1 {
			return id[:at-1]
		}
	}
	return id
}

// OnRecord is the family of a probe that is one call on a record, "" for others.
func OnRecord(id string) string {
	name, _, _ := strings.Cut(SameProbe(id), "|")
	switch name {
	case credential.Family{}.Name(), crossing.Family{}.Name(), detour.Family{}.Name(), malformed.Family{}.Name(),
		undeclared.Family{}.Name():
		return name
	}
	return ""
}

// recordBefore reads such a probe as versions before kept it: one exchange, what became of
// the record, and what follow-ups were answered.
func (f *Fact) recordBefore(family, identity string, old before) {
	var then []check.Report
	for _, t := range old.Then {
		r := check.ReportOf(t.Request+" as "+cmp.Or(t.As, identity, "nobody"), t.Exchange)
		if t.Lost != "" {
			r.Fate, r.Why = check.Unsent, t.Lost
		}
		then = append(then, r)
	}
	f.Check = check.OnRecords{}.Before(family, *f.Exchange, f.Repeats, check.Recorded{Record: f.Record,
		ReadBack: check.Change(f.ReadBack)}, then)
	f.Check.Reports[0].SameSite = old.SameSite
	f.First()
}

// asBefore reads a session drill as versions before kept it: what it measured, with the
// exchanges beside its steps.
func (f *Fact) asBefore(b []byte) error {
	var old struct {
		Drill *struct {
			session.Drilled
			Exchanges []check.Exchange `json:"exchanges"`
		} `json:"drill"`
	}
	if err := json.Unmarshal(b, &old); err != nil || old.Drill == nil {
		return err
	}
	c := &check.Fact{Family: sessions.Family{}.Name(), Version: 1, Began: f.Exchange.At,
		Data: sessions.Before(old.Drill.Drilled, f.Exchange.At)}
	for i, x := range old.Drill.Exchanges {
		r := check.Report{Fate: check.Lost, Exchange: x}
		if i < len(old.Drill.Steps) {
			r.Name, r.Begin = old.Drill.Steps[i].Name, old.Drill.Steps[i].At
		}
		if x.Status != 0 {
			r.Fate = check.Answered
		}
		r.End = r.Begin + x.Took
		c.Reports = append(c.Reports, r)
	}
	f.Check = c
	return nil
}

// pageBefore reads what a page asked as versions before kept it: the request, with its
// preflight and what it was answered without its credential beside it.
func (f *Fact) pageBefore(b []byte) error {
	var old struct{ Preflight, Refusal *check.Exchange }
	if err := json.Unmarshal(b, &old); err != nil {
		return err
	}
	var main *check.Exchange
	if f.Exchange.Method != "" {
		main = f.Exchange
	}
	f.Check = pages.Before(main, old.Preflight, old.Refusal)
	f.First()
	return nil
}

// quotaBefore reads a quota drill as versions before kept it.
func (f *Fact) quotaBefore(b []byte) error {
	var old struct{ Quota *quota.Measured }
	if err := json.Unmarshal(b, &old); err != nil || old.Quota == nil {
		return err
	}
	f.Check = quotas.Before(*f.Exchange, *old.Quota)
	f.First()
	return nil
}

// loginBefore reads a login with something wrong in it as versions before kept it.
func (f *Fact) loginBefore(b []byte) error {
	var old struct{ SignedUp bool }
	if err := json.Unmarshal(b, &old); err != nil {
		return err
	}
	f.Check = logins.Before(*f.Exchange, old.SignedUp)
	return nil
}
