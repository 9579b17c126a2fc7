package standin

import (
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"strconv"
	"strings"
	"time"
)

// mail is a message that would be sent.
type mail struct {
	To      string `json:"to"`
	Subject string `json:"subject"`
	Text    string `json:"text"`
	At      string `json:"at"`
}

// mailedLink is what a link was given out for.
type mailedLink struct {
	person, end string
	used        bool
}

// keptMails is how many messages the mailbox keeps: fewer than make a long answer.
const keptMails = 100

// MailHandler is the mailbox of the test environment: GET /messages?to=ADDRESS, the newest first.
func (s *Service) MailHandler() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c := &call{s: s, w: w, r: r}
		if r.URL.Path != "/messages" || r.Method != http.MethodGet {
			c.problem(404, "there is nothing here")
			return
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		out := []mail{}
		for _, m := range s.mails {
			if to := r.URL.Query().Get("to"); to == "" || to == m.To {
				out = append(out, m)
			}
		}
		c.json(200, out)
	})
}

// sendLink sends a person the link that confirms its address.
func (s *Service) sendLink(p *person) {
	end := strconv.FormatInt(s.now().Add(10*time.Minute).Unix(), 10)
	sig := s.mac("LINK_SECRET", confirmPath+"."+p.ID+"."+end+"."+strconv.Itoa(s.number("mail")))
	s.links[sig] = &mailedLink{person: p.ID, end: end}
	link := s.opt.Issuer + confirmPath + "?person=" + p.ID + "&expires=" + end + "&sig=" + sig
	s.mails = append([]mail{{p.Email, "Confirm your address", "Welcome to the observatory, " + p.Name +
		".\n\nConfirm your address within ten minutes: " + link + "\n", s.now().UTC().Format(time.RFC3339)}},
		s.mails...)
	s.mails = s.mails[:min(len(s.mails), keptMails)]
}

const confirmPath = "/v1/session/email/confirm"

func (s *Service) signUp(c *call) {
	if !need(c, "name", "email", "password") {
		return
	}
	name, email, password := text(c.body["name"]), text(c.body["email"]), text(c.body["password"])
	if why := weak(name, email, password); why != "" && !s.flaws[PasswordWeak] {
		c.problem(422, why)
		return
	}
	p := &person{ID: s.id("person", s.number("person")), Name: name, Email: email, Roles: []string{"observer"},
		password: password, login: !s.flaws[AccountUnusable]}
	s.takeRoles(c, p)
	s.people[p.ID] = p
	s.sendLink(p)
	out := p.view()
	if s.flaws[SecretEcho] {
		h := sha256.Sum256([]byte(password))
		out["password_hash"] = hex.EncodeToString(h[:])
	}
	c.json(201, out)
}

// weak says what is wrong with a password, "" where nothing is.
func weak(name, email, password string) string {
	low := strings.ToLower(password)
	switch {
	case len(password) < 10:
		return "a password has ten characters at least"
	case low == strings.ToLower(name), low == strings.ToLower(email):
		return "a password is not the name"
	}
	for _, common := range []string{"password", "qwerty", "12345", "iloveyou", "letmein"} {
		if strings.HasPrefix(low, common) {
			return "everybody knows that password"
		}
	}
	return ""
}

// rightFor says whether a password is that of somebody who may sign in.
func (s *Service) rightFor(p *person, password string) bool {
	if p == nil || !p.login {
		return false
	}
	right := p.password
	if right == "" {
		right = s.secretOf(p.ID)
	}
	return right != "" && same(password, right)
}

// mailed is whom a mailed link is for, "" where it does not hold.
func (s *Service) mailed(c *call) (who, why string) {
	q := c.r.URL.Query()
	sig := q.Get("sig")
	to, ok := s.links[sig]
	n, err := strconv.ParseInt(q.Get("expires"), 10, 64)
	switch {
	case !ok, err != nil, q.Get("person") != to.person, q.Get("expires") != to.end, s.now().Unix() > n:
		return "", "the link does not hold"
	case to.used && !s.flaws[LinkTwice]:
		return "", "the link was used"
	}
	to.used = true
	return to.person, ""
}

// confirm marks the address of whom the link is for as confirmed.
func (s *Service) confirm(c *call) {
	if p := s.people[c.caller.id]; p != nil && !s.flaws[VerifyNoEffect] {
		p.Verified = true
	}
	c.json(200, map[string]any{"state": "confirmed"})
}
