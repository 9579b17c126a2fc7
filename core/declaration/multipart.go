package declaration

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/goccy/go-yaml/ast"
)

// Part is one of a body of several parts (RFC 7578): a field of a form, or a file where File names one.
type Part struct {
	Name string
	File string // its file's name, "" for a field
	Type string // its content type, "" leaves it out
	Text string // what it holds
}

// Parts are those of a body in the order in which they are sent. As JSON they are an object: a text for a field, else
// an object of name, type and text.
type Parts []Part

type partJSON struct {
	Name string `json:"name,omitempty"`
	Type string `json:"type,omitempty"`
	Text string `json:"text"`
}

// MarshalJSON writes the parts in their order.
func (p Parts) MarshalJSON() ([]byte, error) {
	var b bytes.Buffer
	b.WriteByte('{')
	for i, x := range p {
		if i > 0 {
			b.WriteByte(',')
		}
		b.Write(Quote(x.Name))
		b.WriteByte(':')
		if x.File == "" && x.Type == "" {
			b.Write(Quote(x.Text))
			continue
		}
		v, err := json.Marshal(partJSON{x.File, x.Type, x.Text})
		if err != nil {
			return nil, err
		}
		b.Write(v)
	}
	b.WriteByte('}')
	return b.Bytes(), nil
}

// UnmarshalJSON reads what MarshalJSON writes.
func (p *Parts) UnmarshalJSON(b []byte) error {
	d := json.NewDecoder(bytes.NewReader(b))
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return fmt.Errorf("multipart is an object of parts")
	}
	var out Parts
	for d.More() {
		t, err := d.Token()
		if err != nil {
			return err
		}
		var v json.RawMessage
		if err := d.Decode(&v); err != nil {
			return err
		}
		x := Part{Name: t.(string)} // a key is a string
		if json.Unmarshal(v, &x.Text) != nil {
			var of partJSON
			in := json.NewDecoder(bytes.NewReader(v))
			in.DisallowUnknownFields()
			if err := in.Decode(&of); err != nil {
				return fmt.Errorf("part %s is a text, or has name, type and text: %w", x.Name, err)
			}
			x.File, x.Type, x.Text = of.Name, of.Type, of.Text
		}
		out = append(out, x)
	}
	*p = out
	return nil
}

// partWords are those of a part that is no text.
var partWords = []string{"name", "type", "text"}

// parts reads the parts of a body.
func (r *reader) parts(n ast.Node) (out Parts) {
	for _, f := range r.entries(n, "multipart", nil) {
		x := Part{Name: f.key}
		if !isMap(r.plain(f.val)) {
			x.Text, _ = r.str(f.val, "part "+f.key)
		} else {
			for _, g := range r.entries(f.val, "part "+f.key, partWords) {
				switch g.key {
				case "name":
					x.File, _ = r.str(g.val, "name")
				case "type":
					x.Type, _ = r.str(g.val, "type")
				case "text":
					x.Text, _ = r.str(g.val, "text")
				}
			}
		}
		if strings.ContainsAny(x.Type, "\r\n") {
			r.fail(f.val, "type", "the content type of part "+f.key+" has a line end", "write it on one line")
			x.Type = ""
		}
		out = append(out, x)
	}
	return out
}

// FlowText writes the parts as a declaration has them, on one line.
func (p Parts) FlowText() string {
	parts := make([]string, len(p))
	for i, x := range p {
		v := Scalar(x.Text)
		if x.File != "" || x.Type != "" {
			var of []string
			for _, m := range [][2]string{{"name", x.File}, {"type", x.Type}, {"text", x.Text}} {
				if m[1] != "" {
					of = append(of, m[0]+": "+Scalar(m[1]))
				}
			}
			v = "{ " + strings.Join(of, ", ") + " }"
		}
		parts[i] = Scalar(x.Name) + ": " + v
	}
	return "{ " + strings.Join(parts, ", ") + " }"
}

// escapePart is what a name may not hold in the head of a part, as forms write it (HTML, multipart form data).
var escapePart = strings.NewReplacer("\r", "%0D", "\n", "%0A", `"`, "%22")

// boundary stands between parts: it is longer while one of them holds it.
const boundary = "millgate-part"

// Body is the parts as they are sent, with their content type.
func (p Parts) Body() (contentType string, body []byte) {
	cut := boundary
	for holds(p, cut) {
		cut += "-"
	}
	var b bytes.Buffer
	for _, x := range p {
		fmt.Fprintf(&b, "--%s\r\nContent-Disposition: form-data; name=\"%s\"", cut, escapePart.Replace(x.Name))
		if x.File != "" {
			fmt.Fprintf(&b, "; filename=\"%s\"", escapePart.Replace(x.File))
		}
		if x.Type != "" {
			b.WriteString("\r\nContent-Type: " + x.Type)
		}
		b.WriteString("\r\n\r\n" + x.Text + "\r\n")
	}
	b.WriteString("--" + cut + "--\r\n")
	return "multipart/form-data; boundary=" + cut, b.Bytes()
}

func holds(p Parts, cut string) bool {
	for _, x := range p {
		if strings.Contains(x.Text, cut) {
			return true
		}
	}
	return false
}
