package main

import (
	"fmt"
	"os"
	"path/filepath"
	"time"
)

// receiving takes first snapshots at a site while a carry over the long line arrives
// there, compared with the same snapshots at a site that is left alone.
func (b *bench) receiving() error {
	src, err := b.serve("larkfield")
	if err != nil {
		return err
	}
	defer src.end()
	dst, l, err := b.serveFar("stonewick")
	if err != nil {
		return err
	}
	defer l.Close()
	defer dst.end()
	lone, err := b.serve("mereside")
	if err != nil {
		return err
	}
	defer lone.end()
	if err := b.paired(src, dst); err != nil {
		return err
	}
	var trees []string
	for key := byte(1); key <= 3; key++ {
		dir := filepath.Join(b.base, fmt.Sprintf("other%d", key))
		defer os.RemoveAll(dir)
		if err := altered(b.tree, dir, key); err != nil {
			return err
		}
		trees = append(trees, dir)
	}
	if _, err := src.run("route", "add", "r", "--to", "stonewick", "--volumes", "k=v"); err != nil {
		return err
	}
	var during, alone []time.Duration
	for i, dir := range trees {
		for _, s := range []*site{dst, lone} {
			name := fmt.Sprintf("own%d", i)
			if _, err := s.run("volume", "add", name, "--path", dir); err != nil {
				return err
			}
			took, _, err := s.took("snapshot", "take", name)
			if err != nil {
				return err
			}
			if s == dst {
				during = append(during, took)
			} else {
				alone = append(alone, took)
			}
		}
	}
	if _, err := src.lastCarry(); err != nil {
		return err
	}
	row("first snapshot while a carry arrives : at a site alone", median(during), median(alone), "told")
	return nil
}

// altered copies a tree with every byte changed by a key, so that nothing is shared.
func altered(from, to string, key byte) error {
	return filepath.WalkDir(from, func(p string, d os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(from, p)
		if err != nil {
			return err
		}
		switch at := filepath.Join(to, rel); {
		case d.IsDir():
			return os.MkdirAll(at, 0o755)
		case d.Type().IsRegular():
			data, err := os.ReadFile(p)
			if err != nil {
				return err
			}
			for i := range data {
				data[i] ^= key
			}
			return os.WriteFile(at, data, 0o644)
		}
		return nil
	})
}
