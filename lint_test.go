package candidharbor_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
)

// atHome are the packages that never work in other people's directories, or do so as who runs the
// command. What is not here is held to the rule.
var atHome = []string{"store", "catalog", "cli", "demo", "service", "httpapi", "beneath", "clock"}

// byPath are the files of packages that work in other people's directories which may name paths
// nevertheless, and why: what is opened there lies in directories that only the service and root
// can change, or nothing comes of what is seen.
var byPath = map[string]string{
	"internal/site/site.go":              "the data directory",
	"internal/moment/zone.go":            "/etc/localtime",
	"internal/netns/netns.go":            "/proc",
	"internal/netns/processes.go":        "/proc",
	"internal/upkeep/catalogue.go":       "copies of the catalogue, in the data directory or where site.yaml says",
	"internal/disks/clients.go":          "/proc",
	"internal/disks/certauthority.go":    "keys",
	"internal/disks/adopt.go":            "records of disks, in the data directory",
	"internal/disks/anew.go":             "records of disks, in the data directory",
	"internal/disks/clones.go":           "records of clones, in the data directory",
	"internal/disks/service.go":          "records of disks, in the data directory",
	"internal/volume/disk/files.go":      "records of disks, in the data directory",
	"internal/volume/disk/state.go":      "what the kernel says of itself",
	"internal/datadir/keys.go":           "keys",
	"internal/datadir/open.go":           "the data directory",
	"internal/datadir/config.go":         "site.yaml and keys",
	"internal/route/crates.go":           "the key for sealed crates; whether a file is there is only told",
	"internal/pairing/grants.go":         "keys",
	"internal/recovery/keptnames.go":     "indexes in the data directory",
	"internal/overview/channels.go":      "secrets that site.yaml names",
	"internal/recovery/disktest.go":      "scratch space, in the data directory",
	"internal/recovery/restoretest.go":   "scratch space in the data directory",
	"internal/clones/clones.go":          "what clones changed, in the data directory",
	"internal/pairing/places.go":         "nobody but root can move what was attached: notSwapped",
	"internal/recovery/external.go":      "whether it is a directory is only told; it is opened beneath its root",
	"internal/recovery/prepare.go":       "what is seen is only told; the restore opens its target beneath a root",
	"internal/recovery/restorerun.go":    "what is seen is only told",
	"internal/recovery/restore.go":       "what is seen is only told",
	"internal/recovery/recipes.go":       "what is seen is only told",
	"internal/datadir/room.go":           "how much room there is, which is only told",
	"internal/capture/volumes.go":        "the store's own directory",
	"internal/volume/journal/journal.go": "/proc/self/fd of what is open",
	"internal/volume/journal/reading.go": "/proc/self/fd of what is open",
	"internal/volume/tree/setmeta.go":    "/proc/self/fd of what is open",
	"internal/views/mount.go":            "/dev/fuse, and a directory of the data directory",
	"internal/hostdirs/mounts.go":        "/proc",
	"internal/volume/journal/mounts.go":  "/proc",
	"internal/volume/journal/held.go":    "/proc",
	"internal/volume/tree/cache.go":      "scan caches in the data directory",
	"internal/volume/tree/restore.go":    "what is seen is only told",
	"internal/views/clone.go":            "what clones changed, in the data directory",
	"internal/views/below.go":            "/proc",
	"internal/views/spot.go":             "/proc, and a directory of the data directory",
}

// pathCalls are the functions that resolve a path by themselves.
var pathCalls = map[string][]string{
	"os": {"Open", "OpenFile", "Create", "ReadFile", "WriteFile", "Remove", "RemoveAll", "Mkdir", "MkdirAll", "Chmod",
		"Chown", "Lchown", "Chtimes", "Rename", "Symlink", "Link",
		"ReadDir", "Stat", "Lstat", "Truncate", "Readlink", "CreateTemp", "MkdirTemp"},
	"unix": {"Open", "Creat", "Mkdir", "Chmod", "Chown", "Lchown", "Unlink", "Rmdir", "Rename", "Symlink", "Link", "Stat",
		"Lstat", "Access", "Setxattr", "Getxattr", "Listxattr",
		"Lsetxattr", "Mknod", "Mkfifo", "Truncate", "UtimesNano", "Mount", "Unmount", "Statfs", "Readlink"},
}

// TestLint finds what lets strangers in before it does: paths named where others may swap them,
// programs run elsewhere than in hooks, and answers and prints that bypass what makes them safe.
func TestLint(t *testing.T) {
	used := map[string]bool{}
	fset := token.NewFileSet()
	err := filepath.WalkDir("internal", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(fset, path, nil, 0)
		if err != nil {
			return err
		}
		abroad := !slices.Contains(atHome, strings.Split(path, "/")[1])
		ast.Inspect(file, func(n ast.Node) bool {
			sel, ok := n.(*ast.SelectorExpr)
			if !ok {
				return true
			}
			pkg, ok := sel.X.(*ast.Ident)
			if !ok {
				return true
			}
			at := fset.Position(sel.Pos())
			switch name := sel.Sel.Name; {
			case abroad && slices.Contains(pathCalls[pkg.Name], name):
				if byPath[path] == "" {
					t.Errorf("%s: %s.%s resolves a path that others may swap: open it beneath its root (internal/beneath) and go "+
						"on with what is open", at, pkg.Name, name)
				}
				used[path] = true
			case pkg.Name == "exec" && (name == "Command" || name == "CommandContext") && path != "internal/capture/hooks.go" &&
				!strings.HasPrefix(path, "internal/demo/"):
				t.Errorf("%s: programs are run by hooks of site.yaml alone", at)
			case pkg.Name == "os" && (name == "Stdout" || name == "Stderr") && strings.HasPrefix(path, "internal/cli/"):
				t.Errorf("%s: what is printed goes through the writer that makes it safe for terminals", at)
			}
			return true
		})
		ast.Inspect(file, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok || len(call.Args) != 3 {
				return true
			}
			if sel, ok := call.Fun.(*ast.SelectorExpr); ok && sel.Sel.Name == "Error" {
				if pkg, ok := sel.X.(*ast.Ident); ok && pkg.Name == "http" {
					if _, fixed := call.Args[1].(*ast.BasicLit); !fixed {
						t.Errorf("%s: http.Error with a text that is put together: answer with problem()", fset.Position(call.Pos()))
					}
				}
			}
			return true
		})
		return nil
	})
	require.NoError(t, err)
	for path := range byPath {
		require.True(t, used[path], "%s names no path any more: take it off the list", path)
	}
}

// Lines have at most 120 characters.
func TestLintLines(t *testing.T) {
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && slices.Contains([]string{"node_modules", ".git", "assets"}, d.Name()) {
			return fs.SkipDir
		}
		kinds := []string{".go", ".ts", ".tsx", ".css", ".sh", ".sql", "Makefile"}
		if d.IsDir() || !slices.ContainsFunc(kinds, func(kind string) bool { return strings.HasSuffix(path, kind) }) ||
			strings.HasSuffix(path, "schema.ts") {
			return nil
		}
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		for i, line := range strings.Split(string(text), "\n") {
			if n := utf8.RuneCountInString(line); n > 120 {
				t.Errorf("%s:%d: %d characters, at most 120", path, i+1, n)
			}
		}
		return nil
	})
	require.NoError(t, err)
}
