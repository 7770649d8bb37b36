package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

const (
	diskBytes = 512 << 20
	diskTime  = 2 // seconds of one measurement
	held      = 100
)

// disks compares a disk with the same file served by plain servers of the same protocol, over a socket, with no
// snapshots and with many.
func (b *bench) disks() error {
	s, err := b.serve("larkfield")
	if err != nil {
		return err
	}
	defer s.end()
	if _, err := s.run("volume", "add", "db", "--size", fmt.Sprint(diskBytes)); err != nil {
		return err
	}
	plain := filepath.Join(b.base, "plain")
	if err := b.sh(fmt.Sprintf("head -c %d /dev/urandom > plain && cp plain plain2", diskBytes)); err != nil {
		return err
	}
	defer os.Remove(plain)
	defer os.Remove(plain + "2")
	servers := [][]string{{"nbdkit", "-f", "-U", filepath.Join(b.base, "nbdkit.sock"), "file", plain},
		{"qemu-nbd", "-f", "raw", "-t", "-e", "8", "--cache=writeback", "--aio=threads", "-k",
			filepath.Join(b.base, "qemu.sock"), plain + "2"}}
	uris := []string{"nbd+unix:///db?socket=" + s.dir + "/nbd.sock", "nbd+unix:///?socket=" + b.base + "/nbdkit.sock",
		"nbd+unix:///?socket=" + b.base + "/qemu.sock"}
	for _, args := range servers {
		cmd := exec.Command(args[0], args[1:]...)
		if err := cmd.Start(); err != nil {
			return err
		}
		defer func() {
			cmd.Process.Kill()
			cmd.Wait()
		}()
	}
	for _, sock := range []string{"nbdkit.sock", "qemu.sock"} {
		for try := 0; ; try++ {
			if _, err := os.Stat(filepath.Join(b.base, sock)); err == nil {
				break
			} else if try == 100 {
				return errors.New("a plain server did not start")
			}
			time.Sleep(20 * time.Millisecond)
		}
	}
	if err := b.sh("nbdcopy plain '" + uris[0] + "'"); err != nil {
		return err
	}
	loads := []struct{ what, rw, block, depth string }{{"4 KiB random reads a second, 32 at once", "randread", "4k", "32"},
		{"4 KiB random writes a second, 32 at once", "randwrite", "4k", "32"},
		{"4 KiB random reads and writes a second, 32 at once", "randrw", "4k", "32"},
		{"1 MiB sequential reads a second", "read", "1m", "4"}, {"1 MiB sequential writes a second", "write", "1m", "4"}}
	measure := func(note string) error {
		for _, l := range loads {
			var ours, theirs []float64
			for range 3 {
				best := 0.0
				for i, uri := range uris {
					n, err := b.fio(uri, l.rw, l.block, l.depth)
					if err != nil {
						return err
					}
					if i == 0 {
						ours = append(ours, n)
					} else {
						best = max(best, n)
					}
				}
				theirs = append(theirs, best)
			}
			slices.Sort(ours)
			slices.Sort(theirs)
			fmt.Printf("%-58s %12.0f %12.0f %7.2f  %s\n", l.what+note+" : the best plain server", ours[1], theirs[1],
				ours[1]/theirs[1], ">= 1.0")
		}
		return nil
	}
	if err := measure(""); err != nil {
		return err
	}
	for range held {
		if _, err := b.fioWrites(uris[0], "1m"); err != nil {
			return err
		}
		if _, err := s.run("snapshot", "take", "db"); err != nil {
			return err
		}
	}
	loads = loads[:2]
	if err := measure(fmt.Sprintf(", %d snapshots held", held)); err != nil {
		return err
	}
	return nil
}

// scattered takes snapshots of 1 % of two disks, one four times the other, beside reading those blocks.
func (b *bench) scattered() error {
	var took []time.Duration
	for _, size := range []string{"25GiB", "100GiB"} {
		s, err := b.serve("larkfield")
		if err != nil {
			return err
		}
		if _, err := s.run("volume", "add", "db", "--size", size); err != nil {
			return err
		}
		uri := "nbd+unix:///db?socket=" + s.dir + "/nbd.sock"
		if _, err := b.fioSome(uri, 4096); err != nil {
			return err
		}
		images, err := filepath.Glob(filepath.Join(s.dir, "disks", "*", "image"))
		if err != nil || len(images) != 1 {
			return fmt.Errorf("there are %d images: %w", len(images), err)
		}
		if err := b.cold(images[0]); err != nil {
			return err
		}
		d, first, err := s.took("snapshot", "take", "db")
		if err != nil {
			return err
		}
		took = append(took, d)
		made, err := timed(func() error { _, err := s.run("clone", "create", "c", "db"); return err })
		if err != nil {
			return err
		}
		told("clone of a disk of "+size+", the command included", made.Round(time.Millisecond), "<= 100 ms")
		if _, err := b.fioSome(uri, 16); err != nil {
			return err
		}
		if _, err := s.run("snapshot", "take", "db"); err != nil {
			return err
		}
		back, r, err := s.took("restore", "db", "--at", first.Result.(map[string]any)["id"].(string), "--in-place")
		if err != nil {
			return err
		}
		told("going back of a disk of "+size+", "+r.State, back.Round(time.Millisecond), "<= 100 ms")
		s.end()
	}
	if err := b.sh("dd if=/dev/urandom of=blocks bs=64k count=4096 2>/dev/null"); err != nil {
		return err
	}
	if err := b.cold(filepath.Join(b.base, "blocks")); err != nil {
		return err
	}
	d, err := timed(func() error { return b.sh("dd if=blocks of=/dev/null bs=64k 2>/dev/null") })
	if err != nil {
		return err
	}
	row("4,096 scattered blocks of a disk of 25 GiB : reading them", took[0], d, "<= 2")
	row("the same of one of 100 GiB : of 25 GiB", took[1], took[0], "flat")
	return nil
}

// cold has nothing of a file in memory, unless it lies there.
func (b *bench) cold(path string) error {
	return b.sh("dd of=" + path + " oflag=nocache conv=notrunc,fdatasync count=0 2>/dev/null")
}

// fio runs a load for a while and tells its requests a second.
func (b *bench) fio(uri, rw, block, depth string) (float64, error) {
	return b.fioArgs("--uri="+uri, "--rw="+rw, "--bs="+block, "--iodepth="+depth, "--time_based",
		fmt.Sprintf("--runtime=%d", diskTime))
}

// fioWrites writes a little at random.
func (b *bench) fioWrites(uri, size string) (float64, error) {
	return b.fioArgs("--uri="+uri, "--rw=randwrite", "--bs=4k", "--iodepth=32", "--io_size="+size, "--randrepeat=0")
}

// fioSome writes as many blocks of 64 KiB, scattered.
func (b *bench) fioSome(uri string, n int) (float64, error) {
	return b.fioArgs("--uri="+uri, "--rw=randwrite", "--bs=64k", "--iodepth=8", fmt.Sprintf("--io_size=%dk", 64*n))
}

func (b *bench) fioArgs(args ...string) (float64, error) {
	cmd := exec.Command("fio", append([]string{"--name=x", "--ioengine=nbd", "--output-format=json"}, args...)...)
	cmd.Dir = b.base
	out, err := cmd.Output()
	if err != nil {
		return 0, fmt.Errorf("fio %s: %w: %s", strings.Join(args, " "), err, out)
	}
	var r struct {
		Jobs []struct {
			Read, Write struct{ IOPS float64 }
		}
	}
	if i := strings.IndexByte(string(out), '{'); i > 0 {
		out = out[i:]
	}
	if err := json.Unmarshal(out, &r); err != nil || len(r.Jobs) == 0 {
		return 0, fmt.Errorf("fio: %w: %s", err, out)
	}
	return r.Jobs[0].Read.IOPS + r.Jobs[0].Write.IOPS, nil
}
