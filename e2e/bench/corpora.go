package main

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"time"

	"candidharbor/api"
)

const corpusRounds = 3

// system takes the installed system of this host, /usr without /usr/local: many kinds of files that nobody chose for
// this. CANDID_BENCH_CORPUS names another directory.
func (b *bench) system() error {
	of := os.Getenv("CANDID_BENCH_CORPUS")
	if of == "" {
		of = "/usr"
	}
	if err := b.sh("mkdir corpus; tar -cf - --one-file-system --exclude=./local -C " + of +
		" . | tar -xf - -C corpus"); err != nil {
		return err
	}
	defer os.RemoveAll(filepath.Join(b.base, "corpus"))
	n, err := b.out("find corpus -type f | wc -l; du -sm corpus | cut -f1")
	if err != nil {
		return err
	}
	fmt.Printf("%s: %s files, MiB\n", of, strings.Join(strings.Fields(n), " "))
	var first, archive, unchanged, find, back, untar []time.Duration
	var settled, size int64
	for i := range corpusRounds {
		for _, one := range []struct {
			to     *[]time.Duration
			script string
		}{{&archive, "tar -cf - -C corpus . | zstd -q -1 -T2 > corpus.zst"},
			{&find, `find corpus -printf '%s %T@ %C@ %i\n' > /dev/null`},
			{&untar, "mkdir x; zstd -q -dc corpus.zst | tar -xf - -C x"}} {
			d, err := timed(func() error { return b.sh(one.script) })
			if err != nil {
				return err
			}
			*one.to = append(*one.to, d)
		}
		if err := b.sh("rm -rf x"); err != nil {
			return err
		}
		s, err := b.serve("larkfield", "journal: false")
		if err != nil {
			return err
		}
		if _, err := s.run("volume", "add", "v", "--path", filepath.Join(b.base, "corpus")); err != nil {
			return err
		}
		for _, one := range []struct {
			to   *[]time.Duration
			args []string
		}{{&first, []string{"snapshot", "take", "v"}}, {&unchanged, []string{"snapshot", "take", "v"}},
			{&back, []string{"restore", "v", "--at", "latest", "--to", filepath.Join(b.base, "y")}}} {
			d, _, err := s.took(one.args...)
			if err != nil {
				return err
			}
			*one.to = append(*one.to, d)
		}
		if err := b.sh("rm -rf y"); err != nil {
			return err
		}
		if i == corpusRounds-1 {
			if settled, err = s.settled(); err != nil {
				return err
			}
			st, err := os.Stat(filepath.Join(b.base, "corpus.zst"))
			if err != nil {
				return err
			}
			size = st.Size()
		}
		s.end()
	}
	row("its first snapshot : tar | zstd -1 -T2", median(first), median(archive), "<= 0.7")
	row("nothing changed, by scan : find", median(unchanged), median(find), "<= 1.5")
	row("its restore : tar -x", median(back), median(untar), "<= 0.7")
	fmt.Printf("%-58s %12d %12d %7.2f  %s\n", "stored bytes once settled : that archive", settled, size,
		float64(settled)/float64(size), "<= 1.05")
	return nil
}

// settled packs a store tighter and returns what it takes then.
func (s *site) settled() (int64, error) {
	if _, err := s.run("store", "sweep", "--settle"); err != nil {
		return 0, err
	}
	out, err := s.run("--json", "store", "usage")
	var u api.Usage
	if err == nil {
		err = json.Unmarshal([]byte(out), &u)
	}
	return u.StoredBytes, err
}

const (
	databaseBytes = 4 << 30
	pageBytes     = 8 << 10
	dailyPages    = databaseBytes / pageBytes / 100
)

// database takes a file of 4 GiB of which one percent of the pages change each day, anywhere.
func (b *bench) database() error {
	path := filepath.Join(b.base, "tables", "register.db")
	if err := b.sh("mkdir tables"); err != nil {
		return err
	}
	defer os.RemoveAll(filepath.Dir(path))
	rng := rand.NewChaCha8([32]byte{7})
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	w := bufio.NewWriterSize(f, 1<<20)
	page := make([]byte, pageBytes)
	for range databaseBytes / pageBytes {
		fillPage(rng, page)
		if _, err := w.Write(page); err != nil {
			return err
		}
	}
	if err := w.Flush(); err != nil {
		return err
	}
	s, err := b.serve("larkfield")
	if err != nil {
		return err
	}
	defer s.end()
	if _, err := s.run("volume", "add", "v", "--path", filepath.Dir(path)); err != nil {
		return err
	}
	first, _, err := s.took("snapshot", "take", "v")
	if err != nil {
		return err
	}
	packed, err := timed(func() error { return b.sh("zstd -q -1 -T2 -f tables/register.db -o packed; rm packed") })
	if err != nil {
		return err
	}
	var ours, read []time.Duration
	var stored int64
	pick := rand.New(rng)
	for range corpusRounds {
		for range dailyPages {
			fillPage(rng, page)
			if _, err := f.WriteAt(page, pick.Int64N(databaseBytes/pageBytes)*pageBytes); err != nil {
				return err
			}
		}
		d, err := timed(func() error { return b.sh("dd if=tables/register.db of=/dev/null bs=1M status=none") })
		if err != nil {
			return err
		}
		read = append(read, d)
		d, r, err := s.took("snapshot", "take", "v")
		if err != nil {
			return err
		}
		ours = append(ours, d)
		m, ok := r.Result.(map[string]any)
		if !ok {
			return errors.New("the run says nothing of its snapshot")
		}
		stored = int64(m["stored"].(float64))
	}
	row("a file of 4 GiB, first snapshot : zstd -1 -T2", first, packed, "told")
	row("1 % of its pages changed : reading it by dd", median(ours), median(read), "told")
	fmt.Printf("%-58s %12d %12d %7.2f  %s\n", "bytes stored for that : bytes of those pages", stored,
		int64(dailyPages*pageBytes), float64(stored)/float64(dailyPages*pageBytes), "told")
	return nil
}

// fillPage makes a page of which about half can be compressed away.
func fillPage(rng *rand.ChaCha8, page []byte) {
	rng.Read(page[:len(page)/2])
	for i, b := range page[:len(page)/2] {
		page[len(page)/2+i] = "fen, marsh, dune"[b>>4]
	}
}
