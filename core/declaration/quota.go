package declaration

import (
	"fmt"
	"strings"
	"time"

	"millgate/core/route"
)

// Amount is a number of calls in a time. Per is 0 for calls at the same time.
type Amount struct {
	Count int
	Per   time.Duration
}

func (a Amount) String() string {
	if a.Per == 0 {
		return fmt.Sprintf("%d at once", a.Count)
	}
	return Pace(a).String()
}

// AmountsText is a stack of amounts in words.
func AmountsText(list []Amount) string {
	out := make([]string, len(list))
	for i, a := range list {
		out[i] = a.String()
	}
	return strings.Join(out, " and ")
}

// Model of a limiter.
type Model string

const (
	FixedWindow   Model = "fixed-window"
	SlidingWindow Model = "sliding-window"
	TokenBucket   Model = "token-bucket"
	LeakyBucket   Model = "leaky-bucket"
	Concurrency   Model = "concurrency"
)

// CountKey is what calls are counted by.
type CountKey struct {
	By     string // address, identity, account, key, role, host, header or everyone
	Header string // for header
}

func (c CountKey) String() string {
	if c.By == "header" {
		return "header:" + c.Header
	}
	return c.By
}

// QuotaFor replaces the amounts of a quota for a role or an identity.
type QuotaFor struct {
	Ref
	Amounts []Amount
}

// Exemption from a quota.
type Exemption struct {
	Kind string // target, role, identity or address
	Ref
}

// Quota says how often. The zero Quota lets nothing through.
type Quota struct {
	Name string
	Place
	At         []route.Selector
	Allow      []Amount   // all of them must have room
	CountedBy  []CountKey // the first that the caller has
	Model      Model
	Starts     string        // first-call or clock, for windows
	Burst      int           // for buckets; 0 is the amount's count
	Queue      int           // how many may wait
	QueueFor   time.Duration // how long one waits at most; 0 is without end
	Counts     string        // all or admitted
	RefuseWith int           // status
	PerRoute   bool          // one count for each route, not one for all
	For        []QuotaFor
	Exempt     []Exemption
	Locks      *Locks // the account is closed then; nil where calls are refused alone
}

// Account is the CountKey of the account that a login names, whoever calls.
const Account = "account"

// ByAccount says whether a quota counts the account that a login names.
func (q *Quota) ByAccount() bool { return len(q.CountedBy) > 0 && q.CountedBy[0].By == Account }

// Sacrificed is the identity whose account may be closed to try the quota; "" without one.
func (q *Quota) Sacrificed() string {
	if q.Locks == nil {
		return ""
	}
	return q.Locks.TriedOn.Name
}

// Locks says that an account is closed, even to the right secret, once a quota is full.
type Locks struct {
	Place
	For     time.Duration // 0 is until somebody opens it
	TriedOn Ref           // the identity that is given up for it; none without
}
