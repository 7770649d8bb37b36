package e2e

import (
	"encoding/binary"
	"net/url"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// diskLoad writes to a disk for as long as it is served: each block holds how often it was written.
type diskLoad struct {
	stop    chan struct{}
	done    chan struct{}
	once    sync.Once
	flushed map[int64]uint64 // by block, as answered by a flush
}

const loadBlocks = 64

// load begins to write to the disk of the active site.
func (m *moving) load(site string) *diskLoad {
	c, err := dialNBD(filepath.Join(m.sites[site].dir, "nbd.sock"), m.name(site, "db"))
	require.NoError(m.t, err)
	l := &diskLoad{stop: make(chan struct{}), done: make(chan struct{}), flushed: map[int64]uint64{}}
	go func() {
		defer close(l.done)
		defer c.leave()
		written := map[int64]uint64{}
		for n := uint64(1); ; n++ {
			select {
			case <-l.stop:
				return
			default:
			}
			block := int64(n*7) % loadBlocks
			p := make([]byte, 4096)
			binary.LittleEndian.PutUint64(p, n)
			if c.write(p, block*4096) != nil {
				return
			}
			written[block] = n
			if n%8 == 0 {
				if c.flush() != nil {
					return
				}
				for b, v := range written {
					l.flushed[b] = v
				}
			}
		}
	}()
	return l
}

// end ends it, where the site has not.
func (l *diskLoad) end() {
	l.once.Do(func() { close(l.stop) })
	<-l.done
}

// holds checks that a site serves all that was flushed.
func (l *diskLoad) holds(m *moving, site string) {
	m.t.Helper()
	l.end()
	c, err := dialNBD(filepath.Join(m.sites[site].dir, "nbd.sock"), m.name(site, "db"))
	require.NoError(m.t, err)
	defer c.leave()
	p := make([]byte, loadBlocks*4096)
	require.NoError(m.t, c.read(p, 0))
	for b, v := range l.flushed {
		require.GreaterOrEqual(m.t, binary.LittleEndian.Uint64(p[b*4096:]), v, "block %d at %s", b, site)
	}
}

// fio writes to the disk of a site what it can verify, or verifies what it wrote before at another.
func (m *moving) fio(site string, seed string, more ...string) {
	m.t.Helper()
	uri := "nbd+unix:///" + url.PathEscape(m.name(site, "db")) + "?socket=" + filepath.Join(m.sites[site].dir, "nbd.sock")
	args := append([]string{"--name=v", "--ioengine=nbd", "--uri=" + uri, "--rw=randwrite", "--bs=4k", "--iodepth=16",
		"--offset=4M", "--size=2M", "--verify=crc32c", "--verify_fatal=1", "--randseed=" + seed,
		"--verify_state_save=0"}, more...)
	out, err := exec.Command("fio", args...).CombinedOutput()
	require.NoError(m.t, err, "%s", out)
}

// drilled checks that a site that was killed or cut during a drill has nothing left of it.
func (m *moving) drilled(t testing.TB, site string) {
	t.Helper()
	p := m.sites[site]
	require.Eventually(t, func() bool {
		var all []struct{ State string }
		p.json(&all, "drill", "list")
		return len(all) == 0 || all[0].State == "done" || all[0].State == "failed" || all[0].State == "cancelled"
	}, 20*time.Second, 50*time.Millisecond)
	var clones []any
	p.json(&clones, "clone", "list")
	require.Empty(t, clones)
	require.NoDirExists(t, filepath.Join(p.dir, "drills"))
}
