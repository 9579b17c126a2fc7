package snapshot

// Rule: Facts are judged again, by what was seen.

import (
	"encoding/json"

	jsonv2 "github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	jsonv1 "github.com/go-json-experiment/json/v1"

	"millgate/core/check"
	"millgate/core/check/raised"
)

// Fact is what came of one probe, without secrets. Verdicts are made from
// facts again whenever the declaration changes.
type Fact struct {
	// Exchange is what a probe is about: the first of a family's fact, which it shares. It is
	// never nil.
	Exchange *check.Exchange `json:"exchange,omitempty"`
	Record   string          `json:"record,omitempty"`   // id it was sent on
	ReadBack string          `json:"readBack,omitempty"` // unchanged, changed, gone
	Lost     string          `json:"lost,omitempty"`     // why there is no answer to judge
	Repeats  int             `json:"repeats,omitempty"`
	// Sick: it failed while the service as a whole did.
	Sick bool `json:"sick,omitempty"`
	// NoCredential: what it presents could not be obtained.
	NoCredential bool        `json:"noCredential,omitempty"`
	Check        *check.Fact `json:"check,omitempty"` // of a family of its own
	// Beside: it came to nothing, and what showed a gap before stands.
	Beside bool `json:"beside,omitempty"`
	Sweep  uint `json:"sweep"`
}

// Void says whether a fact came to nothing, in a family that says so: then it does not take the place of one
// that showed a gap.
func (f *Fact) Void() bool {
	if f == nil || f.Check == nil {
		return false
	}
	m, ok := f.Check.Data.(check.Measuring)
	return ok && !m.Whole()
}

func (f *Fact) answer() check.Answer { return check.AnswerOf(*f.Exchange) }

// First makes the first exchange of a family's fact the one that stands for it, and says
// what became of its record.
func (f *Fact) First() {
	if len(f.Check.Reports) > 0 {
		f.Exchange, f.Repeats = &f.Check.Reports[0].Exchange, f.Check.Reports[0].Repeats
	}
	_, how := check.ReadBack(f.Check)
	switch m := f.Check.Data.(type) {
	case *check.Recorded:
		f.Record = m.Record
	case *raised.Measured:
		f.Record = m.Record
	}
	f.ReadBack = string(how)
}

// MarshalJSON leaves out what first puts there.
func (f Fact) MarshalJSON() ([]byte, error) {
	type plain Fact
	if f.Check != nil {
		f.Exchange, f.Record, f.ReadBack, f.Repeats = nil, "", "", 0
	}
	return json.Marshal(plain(f))
}

// stored is how facts are read. A board of many facts waits for that when it is first looked at, so
// that a fact and what its family keeps of it are read in one pass.
var stored = jsonv2.JoinOptions(jsonv1.FormatDurationAsNano(true),
	jsonv2.WithUnmarshalers(jsonv2.UnmarshalFromFunc(func(d *jsontext.Decoder, f *check.Fact) error {
		type plain check.Fact
		x := struct {
			*plain
			Data json.RawMessage `json:"data"`
		}{plain: (*plain)(f)}
		if err := jsonv2.UnmarshalDecode(d, &x); err != nil {
			return err
		}
		f.Data = x.Data
		return nil
	})))

func unmarshal(b []byte, f *Fact) error { return jsonv2.Unmarshal(b, f, stored) }
