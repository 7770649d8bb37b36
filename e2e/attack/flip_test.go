package attack

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

func init() { attackers["flip"] = flip }

var flipped = []string{"vol", "mnt", "cln", "crates", "out", "sby", "plc"}

// flip exchanges directories of the attacker's with links to a victim's, as fast as can be,
// until the file "end" appears beside them.
func flip(args []string) {
	dir, victim := args[0], args[1]
	fd, err := unix.Open(dir, unix.O_RDONLY|unix.O_DIRECTORY, 0)
	if err != nil {
		panic(err)
	}
	for _, name := range flipped {
		if err := unix.Symlinkat(victim, fd, name+".link"); err != nil {
			panic(err)
		}
	}
	fmt.Println("ready")
	n := 0
	for {
		for _, name := range flipped {
			if unix.Renameat2(fd, name, fd, name+".link", unix.RENAME_EXCHANGE) == nil {
				n++
			}
		}
		var st unix.Stat_t
		if unix.Fstatat(fd, "end", &st, 0) == nil {
			fmt.Println("flipped", n)
			return
		}
	}
}

// Who owns the directory above a volume, a mount, a clone, a crate or a restore's target swaps
// it for a link to a directory that only root may enter, within the roots and outside: nothing
// of that is snapshotted, nothing is mounted over it or written into it.
func TestFlipWhatIsNamed(t *testing.T) {
	rounds := rounds(3)
	for _, within := range []bool{true, false} {
		base := openDir(t)
		share := filepath.Join(base, "share")
		own := filepath.Join(share, "own")
		victim := filepath.Join(base, "private")
		if within {
			victim = filepath.Join(share, "private")
		}
		require.NoError(t, os.MkdirAll(own, 0o755))
		require.NoError(t, os.Mkdir(victim, 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(victim, "secret"), []byte("root's"), 0o600))
		for _, name := range flipped {
			require.NoError(t, os.Mkdir(filepath.Join(own, name), 0o755))
			require.NoError(t, os.Chown(filepath.Join(own, name), stranger, stranger))
		}
		require.NoError(t, os.WriteFile(filepath.Join(own, "vol", "mine"), []byte("the owner's"), 0o644))
		require.NoError(t, os.Chown(own, stranger, stranger))
		notes := filepath.Join(share, "notes")
		require.NoError(t, os.Mkdir(notes, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(notes, "page"), []byte("a page"), 0o644))
		s := serve(t, filepath.Join(base, "site"), "larkfield", share)
		s.run("volume", "add", "notes", "--path", notes)
		s.run("volume", "add", "own", "--path", filepath.Join(own, "vol"))
		s.run("snapshot", "take", "notes")
		var shots []struct{ ID string }
		s.json(&shots, "snapshot", "list", "notes")
		id := shots[0].ID
		end := begin(t, as(t, stranger, "flip", own, victim))
		did := map[string]int{}
		try := func(what string, args ...string) bool {
			_, err := s.try(args...)
			if err == nil {
				did[what]++
			}
			return err == nil
		}
		untouched := func(after string) {
			names, err := os.ReadDir(victim)
			require.NoError(t, err)
			require.Len(t, names, 1, "after %s: %v", after, names)
			mounts, err := os.ReadFile("/proc/self/mountinfo")
			require.NoError(t, err)
			require.NotContains(t, string(mounts), victim, "after "+after)
		}
		for i := range rounds {
			name := fmt.Sprint("own", i)
			if try("add", "volume", "add", name, "--path", filepath.Join(own, "vol")) {
				try("take", "snapshot", "take", name)
				if seen, err := s.try("browse", name, "--at", "latest"); err == nil {
					require.NotContains(t, seen, "secret")
				}
			}
			if try("take", "snapshot", "take", "own") {
				require.NotContains(t, s.run("browse", "own", "--at", "latest"), "secret")
			}
			mnt := filepath.Join(own, "mnt")
			if try("mount", "mount", "notes", mnt) {
				untouched("mount")
				s.run("mount", "--end", mnt)
			}
			if try("clone", "clone", "create", "c", "notes", filepath.Join(own, "cln")) {
				untouched("clone")
				s.run("clone", "discard", "c", "--yes")
			}
			try("crate", "crate", "write", filepath.Join(own, "crates", fmt.Sprint(i)), "--snapshot", id)
			try("restore", "restore", "notes", "--at", "latest", "--to", filepath.Join(own, "out", fmt.Sprint(i)))
			untouched("crate and restore")
		}
		require.NoError(t, os.WriteFile(filepath.Join(own, "end"), nil, 0o644))
		t.Logf("%s; done nevertheless: %v", end(), did)
	}
}
