package attack

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

func init() { attackers["swap"] = swap }

// swap puts a link to a victim in the place of every name that appears in a directory of the
// attacker's, until the directory "end" appears in it.
func swap(args []string) {
	dir, victim := args[0], args[1]
	fd, err := unix.Open(dir, unix.O_RDONLY|unix.O_DIRECTORY, 0)
	if err != nil {
		panic(err)
	}
	in, err := unix.InotifyInit()
	if err != nil {
		panic(err)
	}
	if _, err := unix.InotifyAddWatch(in, dir, unix.IN_CREATE|unix.IN_MOVED_TO); err != nil {
		panic(err)
	}
	fmt.Println("ready")
	buf := make([]byte, 64<<10)
	for k := 0; ; {
		n, err := unix.Read(in, buf)
		if err != nil {
			panic(err)
		}
		for b := buf[:n]; len(b) >= unix.SizeofInotifyEvent; {
			size := unix.SizeofInotifyEvent + int(b[12]) + int(b[13])<<8
			name := strings.TrimRight(string(b[unix.SizeofInotifyEvent:size]), "\x00")
			b = b[size:]
			if name == "end" {
				fmt.Println("swapped", k)
				return
			}
			if !strings.HasPrefix(name, ".candid-") {
				continue
			}
			link := fmt.Sprint("link", k)
			if unix.Symlinkat(victim, fd, link) == nil && unix.Renameat2(fd, link, fd, name, unix.RENAME_EXCHANGE) == nil {
				k++
			}
		}
	}
}

// A file owner swaps what a restore is writing into the owner's directory for links to a file
// of root's, as fast as can be: the restore does not touch that file.
func TestSwapWhileRestoring(t *testing.T) {
	base := openDir(t)
	share := filepath.Join(base, "share")
	own := filepath.Join(share, "own")
	victim := filepath.Join(base, "victim")
	require.NoError(t, os.MkdirAll(own, 0o755))
	require.NoError(t, os.WriteFile(victim, []byte("root's"), 0o600))
	s := serve(t, filepath.Join(base, "site"), "larkfield", share)
	const many = 300
	for i := range many {
		p := filepath.Join(own, fmt.Sprint("f", i))
		require.NoError(t, unix.Mkfifo(p, 0o600))
		require.NoError(t, os.Chown(p, stranger, stranger))
		require.NoError(t, unix.Chmod(p, 0o4777))
	}
	require.NoError(t, os.Chown(own, stranger, stranger))
	s.run("volume", "add", "notes", "--path", share)
	s.run("snapshot", "take", "notes")
	clear := func() {
		names, err := os.ReadDir(own)
		require.NoError(t, err)
		for _, n := range names {
			require.NoError(t, os.RemoveAll(filepath.Join(own, n.Name())))
		}
	}
	clear()
	rounds := rounds(3)
	for range rounds {
		end := begin(t, as(t, stranger, "swap", own, victim))
		s.try("restore", "notes", "own", "--at", "latest", "--in-place")
		require.NoError(t, os.Mkdir(filepath.Join(own, "end"), 0o755))
		t.Log(end())
		st, err := os.Stat(victim)
		require.NoError(t, err)
		require.Equal(t, os.FileMode(0o600), st.Mode(), "the mode of root's file")
		var is unix.Stat_t
		require.NoError(t, unix.Stat(victim, &is))
		require.Zero(t, is.Uid)
		clear()
	}
}
