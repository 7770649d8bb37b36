package main

import (
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"time"
)

// views reads a large file through the mounted snapshot, cold in it and warm, compared
// with the plain file in memory; and brings back one percent of a tree in place, compared
// with all of it.
func (b *bench) views() error {
	s, err := b.serve("larkfield")
	if err != nil {
		return err
	}
	defer s.end()
	share, at := filepath.Join(b.base, "viewed"), filepath.Join(b.base, "moments")
	defer os.RemoveAll(share)
	if err := b.sh("mkdir viewed moments; cp -a tree viewed/tree; tar -cf viewed/large -C tree ."); err != nil {
		return err
	}
	if _, err := s.run("volume", "add", "v", "--path", share); err != nil {
		return err
	}
	if _, err := s.run("snapshot", "take", "v"); err != nil {
		return err
	}
	var cold, warm, plain []time.Duration
	for range rounds {
		if _, err := s.run("mount", "v", at); err != nil {
			return err
		}
		for _, one := range []struct {
			to   *[]time.Duration
			file string
		}{{&cold, "moments/latest/large"}, {&warm, "moments/latest/large"}, {&plain, "viewed/large"}} {
			d, err := timed(func() error { return b.sh("dd if=" + one.file + " of=/dev/null bs=1M status=none") })
			if err != nil {
				return err
			}
			*one.to = append(*one.to, d)
		}
		if _, err := s.run("mount", "--end", at, "--anyway"); err != nil {
			return err
		}
	}
	row("sequential read through the mount, warm : plain file", median(warm), median(plain), "<= 2")
	row("the same for the first time", median(cold), median(plain), "told")
	if err := b.firstBytes(s, at); err != nil {
		return err
	}
	var some, all []time.Duration
	for range rounds {
		if err := b.sh("find viewed/tree -type f | awk 'NR % 100 == 0' | xargs -d '\\n' rm"); err != nil {
			return err
		}
		d, _, err := s.took("restore", "v", "tree", "--at", "latest", "--in-place")
		if err != nil {
			return err
		}
		some = append(some, d)
		if d, _, err = s.took("restore", "v", "tree", "--at", "latest", "--to", filepath.Join(b.base, "viewed",
			"back")); err != nil {
			return err
		}
		all = append(all, d)
		if err := b.sh("rm -rf viewed/back"); err != nil {
			return err
		}
	}
	row("1 % brought back in place, with safety : all of it", median(some), median(all), "told")
	return nil
}

// firstBytes measures how long the first byte of a file takes that nobody read before, by
// WebDAV and through a mount made just now.
func (b *bench) firstBytes(s *site, at string) error {
	var files []string
	n := 0
	err := filepath.WalkDir(b.tree, func(p string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			if n++; n%150 == 0 {
				rel, _ := filepath.Rel(b.tree, p)
				files = append(files, rel)
			}
		}
		return err
	})
	if err != nil {
		return err
	}
	url, token := regexp.MustCompile(`http://[0-9.:]+`).FindString(s.said), regexp.MustCompile(`cht_[0-9a-f]+`).FindString(
		s.said)
	first := func(open func(rel string) (io.ReadCloser, error)) (all []time.Duration, err error) {
		for _, rel := range files {
			d, err := timed(func() error {
				r, err := open(rel)
				if err != nil {
					return err
				}
				defer r.Close()
				_, err = io.ReadFull(r, make([]byte, 1))
				if err == io.EOF {
					err = nil
				}
				return err
			})
			if err != nil {
				return nil, err
			}
			all = append(all, d)
		}
		return all, nil
	}
	dav, err := first(func(rel string) (io.ReadCloser, error) {
		req, err := http.NewRequest("GET", url+"/dav/v/latest/tree/"+rel, nil)
		if err != nil {
			return nil, err
		}
		req.SetBasicAuth("bench", token)
		resp, err := http.DefaultClient.Do(req)
		if err == nil && resp.StatusCode != http.StatusOK {
			resp.Body.Close()
			err = fmt.Errorf("%s: %s", rel, resp.Status)
		}
		if err != nil {
			return nil, err
		}
		return resp.Body, nil
	})
	if err != nil {
		return err
	}
	if _, err := s.run("mount", "v", at); err != nil {
		return err
	}
	mount, err := first(func(rel string) (io.ReadCloser, error) {
		return os.Open(filepath.Join(at, "latest", "tree", rel))
	})
	if err != nil {
		return err
	}
	if _, err := s.run("mount", "--end", at, "--anyway"); err != nil {
		return err
	}
	for what, all := range map[string][]time.Duration{"by WebDAV": dav, "through the mount": mount} {
		typical := median(all)
		fmt.Printf("%-58s %12s %12s\n", fmt.Sprintf("first byte of a file %s: of %d, and the longest", what, len(all)),
			typical.Round(100*time.Microsecond), all[len(all)-1].Round(100*time.Microsecond))
	}
	return nil
}
