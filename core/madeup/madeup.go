// Package madeup makes a sample of a request that somebody sent, with nothing in it that is somebody's: a secret
// becomes a
// placeholder, and what looks like a person's becomes a value of the same form that nobody has.
package madeup

import (
	"encoding/json"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"millgate/core/personal"
)

// Maker puts values that nobody has in the place of those that are somebody's: addresses, numbers and names of people
// that traffic shows. They have the same form, so that a service takes them; what was changed is listed.
type Maker struct {
	changed []string
}

// Changed are the names of the members whose values were made up.
func (m *Maker) Changed() []string { return m.changed }

// Words of names of members whose values are about a person.
var (
	phoneWords  = []string{"phone", "telephone", "tel", "mobile", "fax", "msisdn"}
	nameWords   = []string{"firstname", "lastname", "fullname", "surname", "forename", "middlename", "nickname"}
	beforeName  = []string{"first", "last", "full", "given", "family", "middle", "legal", "maiden", "holder", "contact"}
	streetWords = []string{"street", "address1", "addressline1", "addressline2"}
	birthWords  = []string{"birth", "birthday", "birthdate", "dob", "born"}
	numberWords = []string{"ssn", "iban", "passport", "nin", "pan"}
	// A member called name is a person's beside one of these.
	besideName = slices.Concat(phoneWords, nameWords, birthWords, []string{"email", "mail", "gender"})
)

var (
	anEmail  = regexp.MustCompile(`[A-Za-z0-9.!#$%&'*+/=?^_{|}~-]+@[A-Za-z0-9-]+(?:\.[A-Za-z0-9-]+)+`)
	aDate    = regexp.MustCompile(`^(\d{4}-\d{2}-\d{2})`)
	aIBAN    = regexp.MustCompile(`^[A-Z]{2}\d{2}(?: ?[A-Z0-9]{4}){2,7}(?: ?[A-Z0-9]{1,3})?$`)
	somebody = "someone@example.com" // RFC 2606 section 3
)

// of is a text of a member in its place in a sample; person: the members beside it are a person's.
func (m *Maker) of(name, text string, person bool) string {
	out := m.value(personal.Words(name), name, text, person)
	if out != text && !slices.Contains(m.changed, name) {
		m.changed = append(m.changed, name)
	}
	return out
}

func (m *Maker) value(words []string, name, text string, person bool) string {
	has := func(list []string) bool {
		return slices.ContainsFunc(words, func(w string) bool { return slices.Contains(list, w) })
	}
	last := ""
	if len(words) > 0 {
		last = words[len(words)-1]
	}
	before := ""
	if len(words) > 1 {
		before = words[len(words)-2]
	}
	switch {
	case text == "" || strings.HasPrefix(text, "{"):
		return text
	case personal.SecretIn(text) != personal.NoSecret:
		return Placeholder(name)
	case anEmail.MatchString(text):
		return anEmail.ReplaceAllString(text, somebody)
	case has(phoneWords) && digits(text) >= 5 || personal.Phone(text):
		return inForm(text, "15550100")
	case has(numberWords) || aIBAN.MatchString(text) || personal.Card(text):
		return inForm(text, "0")
	case has(birthWords) && aDate.MatchString(text):
		return aDate.ReplaceAllString(text, "1990-01-01")
	case has(streetWords):
		return "1 Example Street"
	case has(nameWords), last == "name" && (slices.Contains(beforeName, before) || person && len(words) == 1):
		return "Example"
	}
	return text
}

// number is of for a number: one of a telephone or an account.
func (m *Maker) number(name string, n json.Number) json.Number {
	whole := digits(n.String()) == len(n) && len(n) >= 5
	if !whole || !slices.ContainsFunc(personal.Words(name), func(w string) bool {
		return slices.Contains(phoneWords, w) || slices.Contains(numberWords, w)
	}) {
		return n
	}
	if !slices.Contains(m.changed, name) {
		m.changed = append(m.changed, name)
	}
	return json.Number(inForm(n.String(), "15550100"))
}

// digits counts those of a text.
func digits(text string) (n int) {
	for _, r := range text {
		if unicode.IsDigit(r) {
			n++
		}
	}
	return n
}

// inForm is a text with other digits, in turn; all else stays.
func inForm(text, turn string) string {
	i := -1
	return strings.Map(func(r rune) rune {
		if !unicode.IsDigit(r) {
			return r
		}
		i++
		return rune(turn[i%len(turn)])
	}, text)
}

// in is a value of JSON with placeholders where secrets stand, and made-up values where somebody's do.
func (m *Maker) in(name string, v any) any {
	switch x := v.(type) {
	case map[string]any:
		person := false
		for k := range x {
			person = person || slices.ContainsFunc(personal.Words(k),
				func(w string) bool { return slices.Contains(besideName, w) })
		}
		for k, member := range x {
			text, is := member.(string)
			number, isNumber := member.(json.Number)
			switch {
			case isNumber:
				x[k] = m.number(k, number)
			case is && SecretName(k):
				x[k] = Placeholder(k)
			case is:
				x[k] = m.of(k, text, person)
			default:
				x[k] = m.in(k, member)
			}
		}
	case []any:
		for i := range x {
			if text, is := x[i].(string); is {
				x[i] = m.of(name, text, false)
			} else {
				x[i] = m.in(name, x[i])
			}
		}
	}
	return v
}
