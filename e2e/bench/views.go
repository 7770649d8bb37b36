package main

import (
	"os"
	"path/filepath"
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
		if d, _, err = s.took("restore", "v", "tree", "--at", "latest", "--to", filepath.Join(b.base, "viewed", "back")); err != nil {
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
