package openapi

import (
	"encoding/json"
	"fmt"
	"path"
	"strconv"
	"strings"

	yaml "github.com/pb33f/go-yaml"
)

// Load reads a file that a description refers to, by its path relative to the
// description's own.
type Load func(ref string) ([]byte, error)

// extension is where files that a description refers to are put inside it.
const extension = "x-millgate-files"

// maxFiles bounds how many files a description may be spread over.
const maxFiles = 200

// inliner puts the files that a description refers to into the description
// itself, so that references never leave the text. Lines of the text stay where
// they are.
type inliner struct {
	load     Load
	names    map[string]string // path → name under extension
	files    map[string]any
	problems []error
}

// Refers are the files that a description refers to and that can be read, by their paths relative to its own.
func Refers(text []byte, load Load) (refs []string) {
	inline(text, func(ref string) ([]byte, error) {
		b, err := load(ref)
		if err == nil {
			refs = append(refs, ref)
		}
		return b, err
	})
	return refs
}

// inline returns the text with external references turned into its own.
func inline(text []byte, load Load) ([]byte, []error) {
	var root yaml.Node
	if yaml.Unmarshal(text, &root) != nil || len(root.Content) == 0 {
		return text, nil // the reader says what is wrong
	}
	in := &inliner{load: load, names: map[string]string{}, files: map[string]any{}}
	lines := strings.SplitAfter(string(text), "\n")
	in.nodes(&root, map[*yaml.Node]bool{}, func(n *yaml.Node) {
		to, ok := in.target(".", n.Value)
		if n.Style&(yaml.SingleQuotedStyle|yaml.DoubleQuotedStyle) == 0 {
			to = strconv.Quote(to) // a # would begin a comment
		}
		if ok && n.Line >= 1 && n.Line <= len(lines) {
			// Only the first on the line, from the node's column on.
			l := lines[n.Line-1]
			at := min(max(0, n.Column-1), len(l))
			lines[n.Line-1] = l[:at] + strings.Replace(l[at:], n.Value, to, 1)
		}
	})
	if len(in.files) == 0 {
		return text, in.problems
	}
	b, err := json.Marshal(in.files)
	if err != nil {
		return text, append(in.problems, fmt.Errorf("the files that are referred to cannot be put together: %w", err))
	}
	out := strings.Join(lines, "")
	if trimmed := strings.TrimRight(out, " \r\n\t"); strings.HasPrefix(strings.TrimLeft(out, " \r\n\t"), "{") &&
		strings.HasSuffix(trimmed, "}") {
		return []byte(trimmed[:len(trimmed)-1] + `, "` + extension + `": ` + string(b) + "}\n"), in.problems
	}
	return []byte(strings.TrimRight(out, "\n") + "\n" + extension + ": " + string(b) + "\n"), in.problems
}

// nodes calls f for each value of $ref.
func (in *inliner) nodes(n *yaml.Node, seen map[*yaml.Node]bool, f func(*yaml.Node)) {
	if n == nil || seen[n] {
		return
	}
	seen[n] = true
	if n.Kind == yaml.MappingNode {
		for i := 0; i+1 < len(n.Content); i += 2 {
			if n.Content[i].Value == "$ref" && n.Content[i+1].Kind == yaml.ScalarNode {
				f(n.Content[i+1])
			}
		}
	}
	for _, c := range n.Content {
		in.nodes(c, seen, f)
	}
}

// target is where a reference leads once its file is inside; ok is false when
// it stays as it is. from is the folder of the file that refers.
func (in *inliner) target(from, ref string) (string, bool) {
	file, pointer, _ := strings.Cut(ref, "#")
	if file == "" {
		return "", false
	}
	if strings.Contains(file, "://") || strings.HasPrefix(file, "//") {
		in.problem(fmt.Errorf("%s is on the network, and nothing is fetched; put the file beside the description", ref))
		return in.nothing(), true
	}
	name := path.Clean(path.Join(from, file))
	key, ok := in.names[name]
	if !ok {
		if key, ok = in.file(name); !ok {
			return in.nothing(), true
		}
	}
	return "#/" + extension + "/" + key + strings.TrimSuffix(pointer, "/"), true
}

// nothing is what a reference leads to when its file is not there, so that the
// rest can be read.
func (in *inliner) nothing() string {
	in.files["none"] = map[string]any{}
	return "#/" + extension + "/none"
}

func (in *inliner) problem(err error) {
	for _, p := range in.problems {
		if p.Error() == err.Error() {
			return
		}
	}
	in.problems = append(in.problems, err)
}

// file takes a file in, with its own references turned around.
func (in *inliner) file(name string) (key string, ok bool) {
	if in.load == nil || len(in.names) >= maxFiles {
		in.problem(fmt.Errorf("%s is referred to and cannot be read here", name))
		return "", false
	}
	b, err := in.load(name)
	if err != nil {
		in.problem(fmt.Errorf("%s is referred to: %w", name, err))
		return "", false
	}
	var root yaml.Node
	if err := yaml.Unmarshal(b, &root); err != nil || len(root.Content) == 0 {
		in.problem(fmt.Errorf("%s is referred to and is neither YAML nor JSON", name))
		return "", false
	}
	key = fmt.Sprintf("f%d", len(in.names)+1)
	in.names[name] = key
	in.nodes(&root, map[*yaml.Node]bool{}, func(n *yaml.Node) {
		if rest, own := strings.CutPrefix(n.Value, "#"); own {
			n.Value = "#/" + extension + "/" + key + strings.TrimSuffix(rest, "/")
		} else if to, ok := in.target(path.Dir(name), n.Value); ok {
			n.Value = to
		}
	})
	var v any
	if err := root.Decode(&v); err != nil {
		in.problem(fmt.Errorf("%s is referred to and cannot be read: %w", name, err))
		delete(in.names, name)
		return "", false
	}
	in.files[key] = plain(v)
	return key, true
}
