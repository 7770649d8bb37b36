package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"time"

	"candidharbor/api"
)

func (b *bench) carry() error {
	var ours, theirs []time.Duration
	sink := httptest.NewTLSServer(sinkIn(b.base))
	defer sink.Close()
	for range rounds {
		src, err := b.serve("larkfield")
		if err != nil {
			return err
		}
		dst, err := b.serve("stonewick")
		if err != nil {
			return err
		}
		if err := b.paired(src, dst); err != nil {
			return err
		}
		packs := filepath.Join(src.dir, "store", "packs")
		d, err := timed(func() error { return b.sh("cat " + packs + "/* | curl -sk -T - " + sink.URL) })
		if err != nil {
			return err
		}
		theirs = append(theirs, d)
		if _, err := src.run("route", "add", "r", "--to", "stonewick", "--volumes", "k=v"); err != nil {
			return err
		}
		if d, err = src.lastCarry(); err != nil {
			return err
		}
		ours = append(ours, d)
		src.end()
		dst.end()
	}
	row("first carry, TLS and verification : curl upload, TLS", median(ours), median(theirs), "<= 1.2")
	return nil
}

// sinkIn writes what is uploaded to a file, durably.
func sinkIn(dir string) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		f, err := os.CreateTemp(dir, "up")
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		defer os.Remove(f.Name())
		defer f.Close()
		io.Copy(f, r.Body)
		f.Sync()
	})
}

func (b *bench) paired(src, dst *site) error {
	if _, err := src.run("volume", "add", "v", "--path", b.tree, "--label", "k=v"); err != nil {
		return err
	}
	if _, err := src.run("snapshot", "take", "v"); err != nil {
		return err
	}
	out, err := dst.run("--json", "site", "invite")
	var inv api.Invitation
	if err == nil {
		err = json.Unmarshal([]byte(out), &inv)
	}
	if err != nil {
		return err
	}
	_, err = src.run("site", "pair", inv.Text)
	return err
}

// lastCarry waits for the route to be current and returns how long its longest run took.
func (s *site) lastCarry() (time.Duration, error) {
	if _, err := s.run("route", "run", "r"); err != nil {
		return 0, err
	}
	out, err := s.run("--json", "run", "list", "--of", "r")
	if err != nil {
		return 0, err
	}
	var page api.Page[api.Run]
	if err := json.Unmarshal([]byte(out), &page); err != nil {
		return 0, err
	}
	var longest time.Duration
	for _, r := range page.Items {
		if r.Began != nil && r.Ended != nil {
			longest = max(longest, r.Ended.Sub(*r.Began))
		}
	}
	return longest, nil
}

// change carries one percent of scattered small files, and compares what went over the
// wire with the changed content and directories, compressed as they are stored.
func (b *bench) change() error {
	src, err := b.serve("larkfield")
	if err != nil {
		return err
	}
	defer src.end()
	dst, err := b.serve("stonewick")
	if err != nil {
		return err
	}
	defer dst.end()
	if err := b.paired(src, dst); err != nil {
		return err
	}
	if _, err := src.run("route", "add", "r", "--to", "stonewick", "--volumes", "k=v"); err != nil {
		return err
	}
	if _, err := src.run("route", "run", "r"); err != nil {
		return err
	}
	if err := b.sh(`find tree -type f -size -8k | sort | awk 'NR % 100 == 0' |
		while read f; do echo "// changed" >> "$f"; done`); err != nil {
		return err
	}
	_, taken, err := src.took("snapshot", "take", "v")
	if err != nil {
		return err
	}
	raw, err := json.Marshal(taken.Result)
	if err != nil {
		return err
	}
	var snap api.Snapshot
	if err := json.Unmarshal(raw, &snap); err != nil {
		return err
	}
	if _, err := src.run("route", "run", "r"); err != nil {
		return err
	}
	out, err := src.run("--json", "run", "list", "--of", "r")
	if err != nil {
		return err
	}
	var page api.Page[api.Run]
	if err := json.Unmarshal([]byte(out), &page); err != nil {
		return err
	}
	for _, r := range page.Items {
		m, ok := r.Result.(map[string]any)
		if !ok || m["snapshots"] == nil || m["offeredBytes"].(float64) == 0 {
			continue
		}
		wire := m["wireBytes"].(float64)
		fmt.Printf("%-58s %12.0f %12d %7.2f  %s\n", "carry of 1 % scattered change: bytes sent : bytes new", wire,
			snap.Stored, wire/float64(snap.Stored), "<= 1.1")
		return nil
	}
	return errors.New("no carry of the change was found")
}
