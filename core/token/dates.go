package token

// Rule: From when until when a token is good.

import (
	"strconv"
	"time"

	"millgate/core/declaration"
	"millgate/core/pointer"
)

// lifetime that the declaration gives the token; nil without.
func (j *judge) lifetime() *declaration.Lifetime {
	if j.c.Doc == nil || j.c.Scheme == nil {
		return nil
	}
	which := "access"
	if j.c.Refresh {
		which = "refresh"
	}
	return j.c.Doc.LifetimeNamed(j.c.Scheme.Lifetime[which].Name)
}

// Say writes a duration as people do: 15 min, 30 days.
func Say(d time.Duration) string {
	d = d.Round(time.Second)
	for _, u := range []struct {
		of        time.Duration
		one, many string
	}{{24 * time.Hour, "day", "days"}, {time.Hour, "h", "h"}, {time.Minute, "min", "min"}} {
		if d >= 2*u.of || d >= u.of && d%u.of == 0 {
			if n := int((d + u.of/2) / u.of); n == 1 {
				return "1 " + u.one
			} else {
				return strconv.Itoa(n) + " " + u.many
			}
		}
	}
	return strconv.Itoa(int(d/time.Second)) + " s"
}

// drift is how far the issuer's clock may be from ours without that anything is said of it.
const drift = time.Minute

func (j *judge) dates() {
	t := j.t
	if !t.Claims.OK {
		return
	}
	var at [3]time.Time
	for i, name := range [3]string{"iat", "nbf", "exp"} {
		m := t.Claims.Get(name)
		if m == nil {
			switch name {
			case "iat":
				if !t.Introspected {
					j.say("iat-missing", Claims, "")
				}
			case "exp":
				j.endless()
			}
			continue
		}
		d, form := m.date()
		at[i] = d
		switch form {
		case "milliseconds":
			j.say("date-milliseconds", Claims, pointer.JSON("").Member(name), name)
		case "text":
			j.say("date-text", Claims, pointer.JSON("").Member(name), name)
		case "not a date":
			j.say("date-unreadable", Claims, pointer.JSON("").Member(name), name)
		}
	}
	iat, nbf, exp := at[0], at[1], at[2]
	l := j.lifetime()
	skew := time.Duration(0)
	if l != nil {
		skew = l.Skew
	}
	now := j.c.Now
	if !exp.IsZero() && !now.Before(exp.Add(skew)) {
		j.say("expired", Claims, "/exp", Say(now.Sub(exp)))
	}
	if !nbf.IsZero() && now.Add(skew).Before(nbf) {
		j.say("not-yet", Claims, "/nbf", Say(nbf.Sub(now)))
	}
	if !iat.IsZero() && now.Add(skew+drift).Before(iat) {
		j.say("iat-ahead", Claims, "/iat", Say(iat.Sub(now)))
	}
	begin := iat
	if begin.IsZero() {
		begin = nbf
	}
	if exp.IsZero() {
		return
	}
	if !begin.IsZero() && exp.Before(begin) {
		j.say("dates-order", Claims, "/exp")
		return
	}
	most := time.Duration(0)
	if l != nil {
		most = l.Max
	}
	// Without a beginning, or with one that lies ahead, it counts from when it was received.
	if r := j.c.Received; !r.IsZero() && (begin.IsZero() || r.Add(skew+drift).Before(begin)) {
		begin, skew = r, skew+drift
	} else {
		skew = 0
	}
	switch life := exp.Sub(begin); {
	case begin.IsZero():
	case most > 0 && life > most+skew:
		j.say("too-long", Claims, "/exp", Say(life), Say(most))
	case most == 0 && !j.c.Refresh && life > Months:
		j.say("lives-long", Claims, "/exp", Say(life))
	}
}

// Months is the life beyond which an access token is remarked on where none is declared.
const Months = 30 * 24 * time.Hour

// endless is a token without exp, which an access token of RFC 9068 must have.
func (j *judge) endless() {
	if typ, _ := j.t.Header.String("typ"); sameType(typ, "at+jwt") {
		j.say("exp-required", Claims, "")
		return
	}
	j.say("exp-missing", Claims, "")
}
