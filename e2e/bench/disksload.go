package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"candidharbor/api"

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
		var idles, busies, calms, lates, shares, factors, takes []float64
		for range rounds {
			idle, calm, err := b.load(uri, l.rw)
			if err != nil {
				return err
			}
			if err := b.sh(fmt.Sprintf("head -c %d /dev/urandom > filled && nbdcopy filled '%s' && rm filled", diskBytes,
				uri)); err != nil {
				return err
			}
			taken := make(chan error, 1)
			began := time.Now()
			go func() {
				err := s.snapshot("db")
				takes = append(takes, time.Since(began).Seconds())
				taken <- err
			}()
			busy, late, err := b.load(uri, l.rw)
			if err = errors.Join(err, <-taken); err != nil {
				return err
			}
			idles, busies = append(idles, idle), append(busies, busy)
			calms, lates = append(calms, ms(calm)), append(lates, ms(late))
			shares, factors = append(shares, busy/idle), append(factors, ms(late)/ms(calm))
		}
		fmt.Printf("%-58s %12.0f %12.0f %7.2f  %s\n", l.what+" a second while stored : left alone", mid(busies), mid(idles),
			mid(shares), fmt.Sprintf(">= 0.7, %.2f-%.2f, 512 MiB stored in %.1f s", slices.Min(shares), slices.Max(shares),
				mid(takes)))
		fmt.Printf("%-58s %9.2f ms %9.2f ms %7.2f  %s\n", "99th percentile of their latency : left alone", mid(lates),
			mid(calms), mid(factors), fmt.Sprintf("<= 3, %.2f-%.2f", slices.Min(factors), slices.Max(factors)))
	}
	return nil
}

// client is one of the service's own calls, which starts no program.
func (s *site) client() *http.Client {
	dial := func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "unix", filepath.Join(s.dir, "candid.sock"))
	}
	return &http.Client{Transport: &http.Transport{DialContext: dial}}
}

// snapshot takes one and waits for it.
func (s *site) snapshot(volume string) error {
	var r api.Run
	resp, err := s.client().Post("http://site/api/v1/volumes/"+volume+"/snapshots", "application/json",
		strings.NewReader("{}"))
	for {
		if err != nil {
			return err
		}
		err = json.NewDecoder(resp.Body).Decode(&r)
		if err = errors.Join(err, resp.Body.Close()); err != nil {
			return err
		}
		switch r.State {
		case api.RunDone:
			return nil
		case api.RunFailed, api.RunCancelled, "":
			return fmt.Errorf("snapshot: %s", r.Outcome)
		}
		resp, err = s.client().Get(fmt.Sprintf("http://site/api/v1/runs/%d?wait=60", r.ID))
	}
}

func ms(d time.Duration) float64 { return d.Seconds() * 1000 }

// mid is the median.
func mid(all []float64) float64 {
	all = slices.Sorted(slices.Values(all))
	return all[len(all)/2]
}

// load measures requests a second and the 99th percentile of their latency.
func (b *bench) load(uri, rw string) (float64, time.Duration, error) {
	cmd := exec.Command("fio", "--name=x", "--ioengine=nbd", "--output-format=json", "--uri="+uri, "--rw="+rw, "--bs=4k",
		"--iodepth=32", "--time_based", "--runtime=2")
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
	client := s.client()
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
	readAll := func(export string) (time.Duration, error) {
		copies := fmt.Sprintf("nbdcopy 'nbd+unix:///%s?socket=%s/nbd.sock' null:", export, s.dir)
		return timed(func() error { return b.sh(copies) })
	}
	first, err := readAll("c7")
	if err != nil {
		return err
	}
	own, err := readAll("db")
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
	row("sequential read of a fresh clone : of the disk itself", first, own, "<= 2")
	row("the same : of a plain file as disk", first, plain, "told")
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
