package main

import (
	"fmt"
	"net"
	"time"
)

const (
	lineDelay = 40 * time.Millisecond // one way
	lineRate  = 100e6 / 8             // bytes a second
)

// longLine forwards to an address as a line of 100 Mbit/s with a round trip of 80 ms does:
// each way bytes leave at the rate and arrive after the delay.
func longLine(to string) (net.Listener, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", to)
			if err != nil {
				in.Close()
				continue
			}
			go delayed(out, in)
			go delayed(in, out)
		}
	}()
	return l, nil
}

type piece struct {
	at   time.Time
	data []byte
}

func delayed(dst, src net.Conn) {
	defer dst.Close()
	defer src.Close()
	// What is on its way, and a router's buffer of another tenth of a second.
	way := make(chan piece, int(lineRate*(lineDelay.Seconds()+0.1))/(8<<10))
	go func() {
		defer close(way)
		free := time.Now()
		for {
			buf := make([]byte, 8<<10)
			n, err := src.Read(buf)
			if n > 0 {
				if now := time.Now(); free.Before(now) {
					free = now
				}
				free = free.Add(time.Duration(float64(n) / lineRate * float64(time.Second)))
				way <- piece{free.Add(lineDelay), buf[:n]}
			}
			if err != nil {
				return
			}
		}
	}()
	for p := range way {
		time.Sleep(time.Until(p.at))
		if _, err := dst.Write(p.data); err != nil {
			go func() {
				for range way {
				}
			}()
			return
		}
	}
}

// serveFar serves a site that others reach over the long line alone.
func (b *bench) serveFar(name string) (*site, net.Listener, error) {
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, nil, err
	}
	at := free.Addr().String()
	free.Close()
	l, err := longLine(at)
	if err != nil {
		return nil, nil, err
	}
	s, err := b.serve(name, "peer_addresses: ["+l.Addr().String()+"]", "peer_listen: "+at)
	if err != nil {
		l.Close()
	}
	return s, l, err
}

// line carries a first copy over a long line, compared with the time that its bytes take
// on it at best, and asks again when nothing has changed.
func (b *bench) line() error {
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
	if err := b.paired(src, dst); err != nil {
		return err
	}
	if _, err := src.run("route", "add", "r", "--to", "stonewick", "--volumes", "k=v"); err != nil {
		return err
	}
	took, err := src.lastCarry()
	if err != nil {
		return err
	}
	var n int64
	if err := b.bytesOf(dst.dir+"/store/packs", &n); err != nil {
		return err
	}
	best := time.Duration(float64(n)/lineRate*float64(time.Second)) + 2*lineDelay
	row(fmt.Sprintf("first carry of %d MB, 80 ms and 100 Mbit/s : at best", n/1e6), took, best, "<= 1.11")
	return nil
}

func (b *bench) bytesOf(dir string, n *int64) error {
	out, err := b.out("du -sb --apparent-size " + dir + " | cut -f1")
	if err != nil {
		return err
	}
	_, err = fmt.Sscan(out, n)
	return err
}
