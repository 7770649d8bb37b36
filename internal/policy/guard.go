package policy

import (
	"errors"
	"fmt"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// A document may come from a stranger, and what reads YAML is not made for that: documents
// are bounded before they are read, and a panic is an error.
const (
	mostBytes = 64 << 10
	mostDepth = 24
)

// unpanic makes a panic of what reads YAML a problem of the document.
func unpanic(err *error) {
	if p := recover(); p != nil {
		*err = Problems{{What: "it cannot be read: something in it is written as nobody would write it"}}
	}
}

// guarded parses a document within bounds and calls read with it.
func guarded(text string, read func(*ast.File) error) error {
	if len(text) > mostBytes {
		return fmt.Errorf("a policy has at most %d KiB, and this one %d", mostBytes>>10, len(text)>>10)
	}
	if depth(text) > mostDepth {
		return fmt.Errorf("it is nested more than %d deep", mostDepth)
	}
	file, err := parser.ParseBytes([]byte(text), 0)
	if err != nil {
		return err
	}
	for _, doc := range file.Docs {
		if doc.Body != nil && len(ast.Filter(ast.AliasType, doc.Body)) > 0 {
			return errors.New("it repeats parts by *alias: write them out")
		}
	}
	return read(file)
}

// depth is an upper bound of how deep a document nests: brackets that are open, and dashes
// one after the other. Brackets in quotes count too, and no honest document has so many.
func depth(text string) (deepest int) {
	for line := range strings.Lines(text) {
		dashes := 0
		for rest := strings.TrimLeft(line, " \t"); len(rest) > 1 && strings.ContainsRune("-?:", rune(rest[0])) &&
			strings.ContainsRune(" \t", rune(rest[1])); {
			dashes++
			rest = strings.TrimLeft(rest[1:], " \t")
		}
		deepest = max(deepest, dashes)
	}
	open := 0
	for i := range len(text) {
		switch text[i] {
		case '[', '{':
			open++
			deepest = max(deepest, open)
		case ']', '}':
			open = max(0, open-1)
		}
	}
	return deepest
}
