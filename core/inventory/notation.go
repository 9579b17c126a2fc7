package inventory

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"millgate/core/route"
)

// Templates are the routes that a line of a table of routes stands for, as frameworks print them: several methods
// (GET|POST, GET,POST) or any (ANY, ALL, *), and parameters in other notations:
//
//	:id  :id(\d+)  <id>  <int:id>  {id:int}  {id:[0-9]+}   one segment, {id}
//	:id?  {id?}                                            with it and without
//	*rest  {rest...}  {*rest}  <path:rest>  *  **          what is left of the path
//
// A route of the inventory has parameters of one segment, so that the last ones become {rest}, and unclear says so; it
// does too where the methods are not named. The keys are METHOD path, each once.
func Templates(methods, path string) (keys []string, unclear string, err error) {
	list, any, err := methodsIn(methods)
	if err != nil {
		return nil, "", err
	}
	if any {
		unclear = "the table says any method; take those that there are"
	}
	host := ""
	if i := strings.Index(path, ":/"); i > 0 && !strings.Contains(path[:i], "/") {
		host, path = path[:i], path[i+1:]
	}
	if !strings.HasPrefix(path, "/") {
		return nil, "", fmt.Errorf("%w: the path %q must begin with /", route.ErrSelector, path)
	}
	paths, met := []string{""}, map[string]bool{}
	for _, segment := range segmentsOf(path) {
		text, optional, rest := parameterIn(segment)
		if strings.HasPrefix(text, "{") && met[text] {
			return nil, "", fmt.Errorf("%w: the parameter %s stands twice in %s", route.ErrSelector, text, path)
		}
		if met[text] = true; optional && len(paths) > mostOptional {
			return nil, "", fmt.Errorf("%w: more parameters of %s may be missing than are told apart",
				route.ErrSelector, path)
		}
		if rest {
			unclear = strings.TrimPrefix(unclear+"; "+segment+" is what is left of a path, of which one segment is "+
				"taken",
				"; ")
		}
		for i, n := 0, len(paths); i < n; i++ {
			if optional {
				paths = append(paths, paths[i])
			}
			paths[i] += "/" + text
		}
	}
	for _, p := range paths {
		if strings.HasSuffix(path, "/") || p == "" {
			p += "/"
		}
		for _, m := range list {
			sel, err := route.ParseTemplate(m + " " + route.Hosted(host, p))
			if err != nil {
				return nil, "", err
			}
			if key := sel.String(); !slices.Contains(keys, key) {
				keys = append(keys, key)
			}
		}
	}
	return keys, unclear, nil
}

// mostOptional is how many routes a path may already stand for where one more parameter may be missing.
const mostOptional = 8

// methodsIn are the methods that a word names; any: it names none, and those that are common are given.
func methodsIn(text string) (list []string, any bool, err error) {
	for _, m := range strings.FieldsFunc(strings.ToUpper(text),
		func(r rune) bool { return strings.ContainsRune("|,/ ", r) }) {
		switch {
		case m == "ANY" || m == "ALL" || m == "*":
			return []string{"GET", "POST", "PUT", "PATCH", "DELETE"}, true, nil
		case !slices.Contains(route.Methods, m):
			return nil, false, fmt.Errorf("%w: %q is not a method", route.ErrSelector, m)
		case m == "HEAD" && strings.Contains(strings.ToUpper(text), "GET"): // it goes with that
		default:
			list = append(list, m)
		}
	}
	if len(list) == 0 {
		return nil, false, fmt.Errorf("%w: a route needs a method", route.ErrSelector)
	}
	return list, false, nil
}

// segmentsOf splits a path, but not within brackets: a pattern in them may have a slash.
func segmentsOf(path string) (out []string) {
	depth, from := 0, 0
	for i, r := range path + "/" {
		switch r {
		case '{', '(', '<', '[':
			depth++
		case '}', ')', '>', ']':
			depth--
		case '/':
			if depth > 0 && i < len(path) {
				continue
			}
			if i > from {
				out = append(out, path[from:i])
			}
			from = i + 1
		}
	}
	return out
}

// The notations of parameters, each with its name.
var (
	colon  = regexp.MustCompile(`^:([A-Za-z_]\w*)(\(.*\))?(\?)?$`)
	angle  = regexp.MustCompile(`^<(?:(\w+)(?:\([^)]*\))?:)?([A-Za-z_]\w*)(\?)?>$`)
	braces = regexp.MustCompile(`^\{(\*{0,2})([A-Za-z_][\w-]*)(\.\.\.)?(\?)?(:[^{}]*(?:\{[^}]*\}[^{}]*)*)?(\?)?\}$`)
	star   = regexp.MustCompile(`^\*{1,2}([A-Za-z_]\w*)?$`)
)

// parameterIn is a segment as the inventory writes it.
func parameterIn(segment string) (text string, optional, rest bool) {
	if m := colon.FindStringSubmatch(segment); m != nil {
		return "{" + m[1] + "}", m[3] != "", m[2] == "(.*)" || m[2] == "(.+)"
	}
	if m := angle.FindStringSubmatch(segment); m != nil {
		return "{" + m[2] + "}", m[3] != "", m[1] == "path"
	}
	if m := braces.FindStringSubmatch(segment); m != nil {
		return "{" + m[2] + "}", m[4]+m[6] != "", m[1]+m[3] != "" || slices.Contains([]string{":.*", ":.+",
			":path"}, m[5])
	}
	if m := star.FindStringSubmatch(segment); m != nil {
		if m[1] == "" {
			m[1] = "rest"
		}
		return "{" + m[1] + "}", false, true
	}
	return segment, false, false
}
