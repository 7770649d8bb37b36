package candidharbor_test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The files, packages, functions and pages that the documents name are there.
func TestDocumentsNameWhatIsThere(t *testing.T) {
	pages, err := filepath.Glob("docs/*.md")
	require.NoError(t, err)
	decisions, err := filepath.Glob("docs/decisions/*.md")
	require.NoError(t, err)
	declared := map[string]bool{} // as package.Name
	sources, err := filepath.Glob("*/*/*.go")
	require.NoError(t, err)
	deeper, err := filepath.Glob("*/*/*/*.go")
	require.NoError(t, err)
	declaration := regexp.MustCompile(`(?m)^(?:func (?:\([^)]*\) )?|type |var |const |\t)(\w+)`)
	for _, path := range append(sources, deeper...) {
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		for _, m := range declaration.FindAllStringSubmatch(string(text), -1) {
			declared[filepath.Base(filepath.Dir(path))+"."+m[1]] = true
		}
	}
	quoted := regexp.MustCompile("`([^`\n]+)`( \\(([a-z]+\\.go)\\))?")
	source := regexp.MustCompile(`^(internal|core|api|client|cmd|console|e2e|docs)(/[\w.{},*-]+)*$`)
	name := regexp.MustCompile(`^([a-z]+)\.(\w*[A-Z]\w*)$`)
	link := regexp.MustCompile(`\]\(([^)#:]+)(#[^)]*)?\)`)
	checked := 0
	for _, page := range append(append(pages, decisions...), "README.md", "CONTRIBUTING.md", "SECURITY.md") {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		for _, m := range quoted.FindAllStringSubmatch(string(text), -1) {
			if source.MatchString(m[1]) && !strings.Contains(m[1], "…") {
				checked++
				assert.True(t, exists(filepath.Join(m[1], m[3])), "%s names %s", page, m[0])
			} else if n := name.FindStringSubmatch(m[1]); n != nil && exists("internal/"+n[1], "core/"+n[1]) {
				checked++
				assert.True(t, declared[m[1]], "%s: nothing is declared as %s", page, m[1])
			}
		}
		for _, m := range link.FindAllStringSubmatch(string(text), -1) {
			checked++
			assert.True(t, exists(filepath.Join(filepath.Dir(page), m[1])), "%s leads to %s", page, m[1])
		}
	}
	require.Greater(t, checked, 100)
}

func exists(paths ...string) bool {
	for _, path := range paths {
		if _, err := os.Stat(path); err == nil {
			return true
		}
	}
	return false
}
