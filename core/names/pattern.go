package names

import (
	"bytes"
	"fmt"
	"path"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Pattern is what names are compared with, upper and lower case alike.
type Pattern struct {
	part  []byte // found anywhere in the name
	globs []glob // for the last components of the path
	top   bool   // the first of them lies right in the volume's top
}

// ParsePattern reads a pattern: a part of a name, or with * ? or [a-z] the whole name.
// With slashes the last components of the path are compared; a slash at the beginning
// means the volume's top.
func ParsePattern(s string) (*Pattern, error) {
	p := &Pattern{}
	text := strings.ToLower(s)
	if rest, ok := strings.CutPrefix(text, "/"); ok {
		text, p.top = rest, true
	}
	text = strings.TrimSuffix(text, "/")
	if text == "" {
		return nil, fmt.Errorf("pattern %q names nothing: give a part of a name, or a pattern such as *.pdf", s)
	}
	if !strings.ContainsAny(text, "*?[\\/") && !p.top {
		p.part = []byte(text)
		return p, nil
	}
	for _, g := range strings.Split(text, "/") {
		if _, err := path.Match(g, ""); err != nil || g == "" {
			return nil, fmt.Errorf("pattern %q: %q is not a name with * ? or [a-z] in it; write \\[ for the bracket itself", s,
				g)
		}
		p.globs = append(p.globs, newGlob(g))
	}
	return p, nil
}

// long reports whether the directories above a name matter.
func (p *Pattern) long() bool { return p.top || len(p.globs) > 1 }

func (p *Pattern) name(name []byte) bool {
	if p.part != nil {
		return containsFold(name, p.part)
	}
	return p.globs[len(p.globs)-1].match(name)
}

// above compares the directories above a name, the path of which ends in a slash.
func (p *Pattern) above(dir []byte) bool {
	var parts [][]byte
	if len(dir) > 0 {
		parts = bytes.Split(dir[:len(dir)-1], []byte("/"))
	}
	globs := p.globs[:len(p.globs)-1]
	if len(parts) < len(globs) || p.top && len(parts) != len(globs) {
		return false
	}
	parts = parts[len(parts)-len(globs):]
	for i := range globs {
		if !globs[i].match(parts[i]) {
			return false
		}
	}
	return true
}

// glob is one component of a pattern, in lower case.
type glob struct {
	text    string
	literal []byte // its longest piece without anything special: a name without it is no match
	simple  bool   // nothing but * is special
}

func newGlob(text string) glob {
	g := glob{text: text, simple: !strings.ContainsAny(text, "?[\\")}
	if !strings.ContainsAny(text, "[\\") {
		for _, piece := range strings.FieldsFunc(text, func(r rune) bool { return r == '*' || r == '?' }) {
			if len(piece) > len(g.literal) {
				g.literal = []byte(piece)
			}
		}
	}
	return g
}

func (g *glob) match(name []byte) bool {
	if len(g.literal) > 0 && !containsFold(name, g.literal) {
		return false
	}
	name = lower(name)
	if !g.simple {
		ok, _ := path.Match(g.text, string(name))
		return ok
	}
	// With stars only: the first piece begins the name, the last ends it, and those
	// between follow each other.
	rest := g.text
	for first := true; ; first = false {
		piece, after, star := strings.Cut(rest, "*")
		switch {
		case first && !star:
			return string(name) == piece
		case first:
			if len(name) < len(piece) || string(name[:len(piece)]) != piece {
				return false
			}
			name = name[len(piece):]
		case !star:
			return len(name) >= len(piece) && string(name[len(name)-len(piece):]) == piece
		default:
			i := bytes.Index(name, []byte(piece))
			if i < 0 {
				return false
			}
			name = name[i+len(piece):]
		}
		rest = after
	}
}

// lower returns a name in lower case, itself when it is.
func lower(name []byte) []byte {
	for _, c := range name {
		if c >= utf8.RuneSelf || 'A' <= c && c <= 'Z' {
			return bytes.ToLower(name)
		}
	}
	return name
}

// containsFold reports whether name has part, which is in lower case, in any case.
func containsFold(name, part []byte) bool {
	for _, c := range name {
		if c >= utf8.RuneSelf {
			return bytes.Contains(bytes.ToLower(name), part)
		}
	}
	first := part[0]
	upper := byte(unicode.ToUpper(rune(first)))
next:
	for i := 0; i+len(part) <= len(name); i++ {
		if c := name[i]; c != first && c != upper {
			continue
		}
		for j := 1; j < len(part); j++ {
			c := name[i+j]
			if 'A' <= c && c <= 'Z' {
				c += 'a' - 'A'
			}
			if c != part[j] {
				continue next
			}
		}
		return true
	}
	return false
}
