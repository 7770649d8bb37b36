package main

import (
	"bytes"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"net"
	"net/http/httptest"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"candidharbor/core/object"

	"github.com/klauspost/compress/s2"
	"golang.org/x/sys/unix"
)

// floors reckons the least that the slow rows can take on this machine: what its cores need for the system calls, the
// hashing, the packing, the copying and the encrypting alone, shared evenly by all of them, with nothing looked up,
// ordered or waited for. They are compared with the same plain tools as the rows.
func (b *bench) floors() error {
	if err := b.floorsOf("the tree", "tree"); err != nil {
		return err
	}
	if err := smallFiles(filepath.Join(b.base, "small"), 100_000); err != nil {
		return err
	}
	defer os.RemoveAll(filepath.Join(b.base, "small"))
	return b.floorsOf("100,000 small files", "small")
}

// smallFiles makes files of 0.2 to 3.2 KB of text, 1,000 in each directory.
func smallFiles(dir string, n int) error {
	rng := rand.New(rand.NewPCG(1, 2))
	words := strings.Fields("sheet genus species leaf stem root marsh dune heath fen 1931 1932 collected by near north of")
	for i := range n {
		in := filepath.Join(dir, fmt.Sprintf("%04d", i/1000))
		if i%1000 == 0 {
			if err := os.MkdirAll(in, 0o755); err != nil {
				return err
			}
		}
		var text bytes.Buffer
		for size := 200 + rng.IntN(3000); text.Len() < size; {
			fmt.Fprintf(&text, "%s %d ", words[rng.IntN(len(words))], rng.IntN(100))
		}
		if err := os.WriteFile(filepath.Join(in, fmt.Sprintf("note-%06d.txt", i)), text.Bytes(), 0o644); err != nil {
			return err
		}
	}
	return nil
}

const pieceSize = 64 << 10 // the average of a chunk

// work is what is done to a tree, and the processor time that each part of it took.
type work struct {
	dir, to string
	names   []string
	sizes   []int64
	bytes   int64
	plain   []byte // the files, one after the other
	arena   []byte // memory for what is packed
	pieces  [][]byte
	packed  [][]byte

	read, hash, pack, write, unpack, carry, make, again, move time.Duration
}

func (b *bench) floorsOf(what, dir string) error {
	var archive, untar, upload, plain []time.Duration
	for i := range 3 {
		for _, one := range []struct {
			to     *[]time.Duration
			script string
		}{{&archive, "tar -cf - " + dir + " | zstd -q -1 -T2 > floor.zst"},
			{&untar, fmt.Sprintf("mkdir u%d; zstd -q -dc floor.zst | tar -xf - -C u%d", i, i)}} {
			d, err := timed(func() error { return b.sh(one.script) })
			if err != nil {
				return err
			}
			*one.to = append(*one.to, d)
		}
	}
	w := &work{dir: filepath.Join(b.base, dir), to: filepath.Join(b.base, "made")}
	defer os.RemoveAll(w.to)
	if err := w.all(filepath.Join(b.base, "packed")); err != nil {
		return err
	}
	sink := httptest.NewTLSServer(sinkIn(b.base))
	defer sink.Close()
	for range 3 {
		d, err := timed(func() error { return b.sh("curl -sk -T packed " + sink.URL) })
		if err != nil {
			return err
		}
		upload = append(upload, d)
		if d, err = timed(func() error { return b.sh("dd if=large of=/dev/null bs=1M status=none") }); err != nil {
			return err
		}
		plain = append(plain, d)
	}
	if err := b.sh("rm -rf u0 u1 u2 floor.zst packed large"); err != nil {
		return err
	}
	fmt.Printf("%s, MB/s a core: hash %.0f, pack %.0f, unpack %.0f, move %.0f; µs a file: read %.1f, make %.1f\n", what,
		w.rate(w.hash), w.rate(w.pack), w.rate(w.unpack), w.rate(w.move), w.each(w.read), w.each(w.make))
	cores := time.Duration(runtime.NumCPU())
	row("floor of a first snapshot : tar | zstd -1 -T2", (w.read+w.hash+w.pack+w.write)/cores, median(archive), "told")
	row("floor of a restore, read back : tar -xf", (w.unpack+w.hash+w.make+w.again)/cores, median(untar), "told")
	row("floor of a first carry : curl upload, TLS", (w.carry+w.unpack+w.hash+w.write)/cores, median(upload), "told")
	// A mount moves each byte to the kernel and within it, and then to who reads.
	row("floor of a first read through a mount : plain file", (w.unpack+w.hash+2*w.move)/cores+median(plain),
		median(plain), "told")
	return nil
}

func (w *work) rate(d time.Duration) float64 { return float64(w.bytes) / 1e6 / d.Seconds() }

func (w *work) each(d time.Duration) float64 {
	return float64(d.Microseconds()) / float64(len(w.names))
}

// all does each part by itself, on one core but for the carry, which has two ends.
func (w *work) all(packed string) error {
	if err := w.look(); err != nil {
		return err
	}
	w.cut()
	spare := bytes.Repeat([]byte{1}, int(w.bytes))
	for _, part := range []struct {
		took *time.Duration
		do   func() error
	}{{&w.read, w.readAll}, {&w.hash, w.hashAll}, {&w.pack, w.packAll},
		{&w.write, func() error { return w.writeAll(packed) }}, {&w.unpack, w.unpackAll}, {&w.carry, w.carryAll},
		{&w.make, w.makeAll}, {&w.again, w.readAgain},
		{&w.move, func() error { copy(spare, w.plain); return nil }}} {
		runtime.GC()
		before := cpu()
		if err := part.do(); err != nil {
			return err
		}
		*part.took = cpu() - before
	}
	return os.WriteFile(filepath.Join(filepath.Dir(packed), "large"), w.plain, 0o600)
}

// cpu is the processor time that this process has used.
func cpu() time.Duration {
	var u unix.Rusage
	_ = unix.Getrusage(unix.RUSAGE_SELF, &u)
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// look finds the files, and takes the memory for all of them.
func (w *work) look() error {
	err := filepath.WalkDir(w.dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(w.dir, p)
		w.names, w.sizes, w.bytes = append(w.names, rel), append(w.sizes, info.Size()), w.bytes+info.Size()
		return err
	})
	w.plain, w.arena = bytes.Repeat([]byte{1}, int(w.bytes)), bytes.Repeat([]byte{1}, int(w.bytes)*5/4)
	return err
}

// readFrom reads every file in one call each.
func (w *work) readFrom(dir string) error {
	at := int64(0)
	for i, name := range w.names {
		fd, err := unix.Open(filepath.Join(dir, name), unix.O_RDONLY|unix.O_CLOEXEC, 0)
		if err != nil {
			return err
		}
		var st unix.Stat_t
		err = unix.Fstat(fd, &st)
		if n, rerr := unix.Pread(fd, w.plain[at:at+w.sizes[i]], 0); rerr != nil || int64(n) != w.sizes[i] {
			err = errors.Join(err, rerr, fmt.Errorf("%s: %d bytes", name, n))
		}
		if err = errors.Join(err, unix.Close(fd)); err != nil {
			return err
		}
		at += w.sizes[i]
	}
	return nil
}

func (w *work) readAll() error { return w.readFrom(w.dir) }

func (w *work) readAgain() error { return w.readFrom(w.to) }

// cut makes pieces of the files, none of two.
func (w *work) cut() {
	at := int64(0)
	for _, n := range w.sizes {
		for p := range slices.Chunk(w.plain[at:at+n], pieceSize) {
			w.pieces = append(w.pieces, p)
		}
		at += n
	}
}

func (w *work) hashAll() error {
	for _, p := range w.pieces {
		object.Sum(p)
	}
	return nil
}

func (w *work) packAll() error {
	room := w.arena
	w.packed = make([][]byte, 0, len(w.pieces))
	for _, p := range w.pieces {
		w.packed = append(w.packed, s2.Encode(room, p))
		room = room[len(w.packed[len(w.packed)-1]):]
	}
	return nil
}

func (w *work) writeAll(to string) error {
	f, err := os.Create(to)
	if err != nil {
		return err
	}
	defer f.Close()
	for _, p := range w.packed {
		if _, err := f.Write(p); err != nil {
			return err
		}
	}
	return f.Sync()
}

func (w *work) unpackAll() error {
	buf := make([]byte, pieceSize)
	for _, p := range w.packed {
		if _, err := s2.Decode(buf, p); err != nil {
			return err
		}
	}
	return nil
}

// carryAll brings what is packed over a loopback TLS connection to who only reads it.
func (w *work) carryAll() error {
	s := httptest.NewUnstartedServer(nil)
	s.StartTLS()
	cert := s.TLS.Certificates
	s.Close()
	l, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: cert})
	if err != nil {
		return err
	}
	defer l.Close()
	ended := make(chan error, 1)
	go func() {
		c, err := l.Accept()
		if err == nil {
			_, err = io.CopyBuffer(struct{ io.Writer }{io.Discard}, struct{ io.Reader }{c}, make([]byte, 1<<20))
			c.Close()
		}
		ended <- err
	}()
	plain, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		return err
	}
	c := tls.Client(plain, &tls.Config{InsecureSkipVerify: true}) // it stays on this host
	_, err = c.Write(bytes.Join(w.packed, nil))
	return errors.Join(err, c.Close(), <-ended)
}

// makeAll makes the files again elsewhere, with modes and times.
func (w *work) makeAll() error {
	times := []unix.Timeval{unix.NsecToTimeval(1e18), unix.NsecToTimeval(1e18)}
	at, dir, fd := int64(0), "", -1
	defer func() { unix.Close(fd) }()
	for i, name := range w.names {
		if d := filepath.Dir(name); d != dir || fd < 0 {
			unix.Close(fd)
			if err := os.MkdirAll(filepath.Join(w.to, d), 0o755); err != nil {
				return err
			}
			var err error
			if fd, err = unix.Open(filepath.Join(w.to, d), unix.O_RDONLY|unix.O_CLOEXEC, 0); err != nil {
				return err
			}
			dir = d
		}
		f, err := unix.Openat(fd, filepath.Base(name), unix.O_RDWR|unix.O_CREAT|unix.O_EXCL|unix.O_CLOEXEC, 0o600)
		if err != nil {
			return err
		}
		if n, werr := unix.Pwrite(f, w.plain[at:at+w.sizes[i]], 0); werr != nil || int64(n) != w.sizes[i] {
			err = errors.Join(werr, fmt.Errorf("%s: %d bytes", name, n))
		}
		if err = errors.Join(err, unix.Fchmod(f, 0o644), unix.Futimes(f, times), unix.Close(f)); err != nil {
			return err
		}
		at += w.sizes[i]
	}
	return nil
}
