package main

import (
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"context"
)

// stored measures a disk while its snapshots are stored.
func (b *bench) stored() error {
	s, err := b.serve("larkfield")
	if err != nil {
		return err
	}
	defer s.end()
	if _, err := s.run("volume", "add", "db", "--size", fmt.Sprint(diskBytes)); err != nil {
		return err
	}
	uri := "nbd+unix:///db?socket=" + s.dir + "/nbd.sock"
	if err := b.sh(fmt.Sprintf("head -c %d /dev/urandom > filled && nbdcopy filled '%s' && rm filled", diskBytes,
		uri)); err != nil {
		return err
	}
	return b.whileHarvested(s, uri)
}

// whileHarvested measures a disk while one snapshot after the other is stored, beside itself left alone.
func (b *bench) whileHarvested(s *site, uri string) error {
	if _, err := s.run("disk", "open", "db", "--shared", "--yes"); err != nil { // by two programs at once
		return err
	}
	loads := []struct{ what, rw string }{{"4 KiB random reads", "randread"}, {"4 KiB random writes", "randwrite"}}
	for _, l := range loads {
		idle, calm, err := b.load(uri, l.rw)
		if err != nil {
			return err
		}
		var stop atomic.Bool
		taken, failed := 0, make(chan error, 1)
		go func() {
			for !stop.Load() {
				if l.rw == "randread" { // a little to store; starting another fio would take a core for a while
					off := 1 + (7*taken)%500
					if err := b.sh(fmt.Sprintf("qemu-io -f raw -c 'write -P %d %dM 8M' '%s' > /dev/null", taken%255+1, off,
						uri)); err != nil {
						failed <- err
						return
					}
				}
				if _, err := s.run("snapshot", "take", "db"); err != nil {
					failed <- err
					return
				}
				taken++
			}
			failed <- nil
		}()
		busy, late, err := b.load(uri, l.rw)
		stop.Store(true)
		if ferr := <-failed; err == nil {
			err = ferr
		}
		if err != nil {
			return err
		}
		fmt.Printf("%-58s %12.0f %12.0f %7.2f  %s\n", l.what+" a second while stored : left alone", busy, idle, busy/idle,
			fmt.Sprintf(">= 0.7, %d snapshots", taken))
		fmt.Printf("%-58s %12s %12s %7.2f  %s\n", "99th percentile of their latency : left alone", late, calm,
			float64(late)/float64(calm), "<= 3")
	}
	return nil
}

// load measures requests a second and the 99th percentile of their latency.
func (b *bench) load(uri, rw string) (float64, time.Duration, error) {
	cmd := exec.Command("fio", "--name=x", "--ioengine=nbd", "--output-format=json", "--uri="+uri, "--rw="+rw, "--bs=4k",
		"--iodepth=32", "--time_based", "--runtime=4")
	cmd.Dir = b.base
	out, err := cmd.Output()
	if err != nil {
		return 0, 0, fmt.Errorf("fio: %w: %s", err, out)
	}
	type side struct {
		IOPS   float64
		ClatNs struct {
			Percentile map[string]float64
		} `json:"clat_ns"`
	}
	var r struct{ Jobs []struct{ Read, Write side } }
	if err := json.Unmarshal(out[strings.IndexByte(string(out), '{'):], &r); err != nil || len(r.Jobs) == 0 {
		return 0, 0, fmt.Errorf("fio: %w: %s", err, out)
	}
	x := r.Jobs[0].Read
	if rw == "randwrite" {
		x = r.Jobs[0].Write
	}
	return x.IOPS, time.Duration(x.ClatNs.Percentile["99.000000"]), nil
}

// clones makes a thousand clones of one disk, writes 1 MiB to each, and tells what that takes.
func (b *bench) clones() error {
	const count = 1000
	s, err := b.serve("larkfield")
	if err != nil {
		return err
	}
	defer s.end()
	for _, args := range [][]string{{"volume", "add", "db", "--size", "1GiB"}, {"snapshot", "take", "db"}} {
		if args[0] == "snapshot" {
			if _, err := b.fioSome("nbd+unix:///db?socket="+s.dir+"/nbd.sock", 1024); err != nil {
				return err
			}
		}
		if _, err := s.run(args...); err != nil {
			return err
		}
	}
	before, err := s.memory()
	if err != nil {
		return err
	}
	dial := func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "unix", filepath.Join(s.dir, "candid.sock"))
	}
	client := &http.Client{Transport: &http.Transport{DialContext: dial}}
	made, err := timed(func() error {
		for i := range count {
			body := strings.NewReader(fmt.Sprintf(`{"name": "c%d", "volume": "db", "at": "latest"}`, i))
			resp, err := client.Post("http://site/api/v1/clones", "application/json", body)
			if err != nil {
				return err
			}
			resp.Body.Close()
			if resp.StatusCode >= 300 {
				return fmt.Errorf("clone %d: %s", i, resp.Status)
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	raw := filepath.Join(b.base, "mib")
	if err := b.sh("head -c 1048576 /dev/urandom > mib"); err != nil {
		return err
	}
	wrote, err := timed(func() error {
		for i := range count {
			uri := fmt.Sprintf("nbd+unix:///c%d?socket=%s/nbd.sock", i, s.dir)
			cmd := exec.Command("qemu-io", "-f", "raw", "-c", "write -s "+raw+" 5M 1M", uri)
			if out, err := cmd.CombinedOutput(); err != nil {
				return fmt.Errorf("clone %d: %w: %s", i, err, out)
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	after, err := s.memory()
	if err != nil {
		return err
	}
	told("1,000 clones of one disk, made", made.Round(10*time.Millisecond), "<= 60 s")
	told("1 MiB written to each by a client of its own", wrote.Round(10*time.Millisecond), "")
	told("memory of each at rest", fmt.Sprintf("%d KiB", (after-before)/count), "<= 100 KiB")
	first, err := timed(func() error {
		return b.sh("nbdcopy 'nbd+unix:///c7?socket=" + s.dir + "/nbd.sock' null:")
	})
	if err != nil {
		return err
	}
	if err := b.sh("nbdcopy 'nbd+unix:///c8?socket=" + s.dir + "/nbd.sock' plain"); err != nil { // with the same holes
		return err
	}
	cmd := exec.Command("nbdkit", "-f", "-U", filepath.Join(b.base, "one.sock"), "file", filepath.Join(b.base, "plain"))
	if err := cmd.Start(); err != nil {
		return err
	}
	defer func() {
		cmd.Process.Kill()
		cmd.Wait()
	}()
	for try := 0; try < 100; try++ {
		if _, err := os.Stat(filepath.Join(b.base, "one.sock")); err == nil {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	plain, err := timed(func() error { return b.sh("nbdcopy 'nbd+unix:///?socket=one.sock' null:") })
	if err != nil {
		return err
	}
	row("sequential read of a fresh clone : of a plain file as disk", first, plain, "<= 2")
	return nil
}

// memory is what a service holds that is its own, in KiB, after it gave back what it could.
func (s *site) memory() (int64, error) {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", s.cmd.Process.Pid))
	if err != nil {
		return 0, err
	}
	for _, line := range strings.Split(string(raw), "\n") {
		if rest, is := strings.CutPrefix(line, "RssAnon:"); is {
			return strconv.ParseInt(strings.Fields(rest)[0], 10, 64)
		}
	}
	return 0, fmt.Errorf("the kernel tells no memory")
}
