package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"candidharbor/api"
	"candidharbor/internal/visible"

	"github.com/urfave/cli/v3"
)

func diskAccessCommand() *cli.Command {
	return &cli.Command{Name: "access", Usage: "which hosts open which disks over the network", ArgsUsage: "[HOST]",
		Description: "Examples:\n   candid disk access\n   candid disk access register-host --disk specimen-db --to " +
			"register-host-certificates\n   candid disk access register-host --end",
		Flags: []cli.Flag{
			&cli.StringSliceFlag{Name: "disk", Usage: "a disk that the host may open, with its snapshots; once for each, and " +
				"no others from now on"},
			&cli.StringFlag{Name: "to", Usage: "directory here for what the host shows and trusts, when that is made: it " +
				"must not be there yet; HOST-certificates when not given"},
			&cli.BoolFlag{Name: "renew", Usage: "make another certificate; the one before is worth nothing then"},
			&cli.BoolFlag{Name: "end", Usage: "let the host in no more"}},
		Action: with("[HOST]", diskAccess)}
}

func diskAccess(ctx context.Context, f *session, cmd *cli.Command) error {
	host := cmd.Args().First()
	ask := api.DiskAccess{Disks: cmd.StringSlice("disk"), Renew: cmd.Bool("renew")}
	changes := len(ask.Disks) > 0 || ask.Renew
	path := "/disk-hosts/" + url.PathEscape(host)
	switch {
	case host == "" && (changes || cmd.Bool("end")):
		return misuse("say which host: candid disk access HOST --disk NAME")
	case cmd.Bool("end") && changes:
		return misuse("--end lets the host in no more; leave the other flags away")
	case cmd.Bool("end"):
		return f.sentence(func(out any) error { return f.Delete(ctx, path, out) })
	}
	var all []api.DiskHost
	if err := f.Get(ctx, "/disk-hosts", nil, &all); err != nil {
		return err
	}
	var is *api.DiskHost
	for i := range all {
		if all[i].Name == host {
			is = &all[i]
		}
	}
	switch {
	case host == "":
		return f.show(all, func() {
			var rows [][]string
			for _, h := range all {
				rows = append(rows, []string{h.Name, strconv.Itoa(h.Connections), when(h.Until), strings.Join(h.Disks, ", ")})
			}
			f.list([]string{"HOST", "CONNECTIONS", "CERTIFICATE ENDS", "DISKS"}, rows,
				"No host opens disks over the network. Let one in: candid disk access HOST --disk NAME")
		})
	case !changes && is == nil:
		return fmt.Errorf("no host %s is let in: candid disk access %s --disk NAME", host, visible.Word(host))
	case !changes:
		return f.show(is, func() { f.hostLines(is, "DIR") })
	}
	dir := cmd.String("to")
	if dir == "" {
		dir = host + "-certificates"
	}
	if is == nil || ask.Renew { // before a key is made that could be put nowhere
		if err := os.Mkdir(dir, 0o700); err != nil {
			return misuse("the certificate of %s is to be put into the directory %s, which cannot be made: %s", host, dir,
				errors.Unwrap(err))
		}
	}
	var out api.DiskAccessGiven
	if err := f.Put(ctx, path, ask, &out); err != nil {
		return errors.Join(err, removeEmpty(dir))
	}
	if out.Key == "" {
		return f.show(out.Host, func() { f.hostLines(&out.Host, "DIR") })
	}
	for name, text := range map[string]string{"ca-cert.pem": out.Authority, "client-cert.pem": out.Certificate,
		"client-key.pem": out.Key} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			return fmt.Errorf("%w. The key is kept nowhere: make another with candid disk access %s --renew --to DIR", err, host)
		}
	}
	return f.show(out.Host, func() {
		f.say("What %s shows and trusts is in %s, until %s: take it to that host, to a directory that only its client "+
			"reads, and delete it here. It is kept nowhere else.", host, dir, when(out.Host.Until))
		f.hostLines(&out.Host, "DIR")
	})
}

// removeEmpty takes a directory away that was made for nothing.
func removeEmpty(dir string) error {
	if err := os.Remove(dir); err != nil && !errors.Is(err, os.ErrNotExist) && !errors.Is(err, os.ErrExist) {
		return err
	}
	return nil
}

// hostLines tells what a host may open, and how.
func (f *session) hostLines(h *api.DiskHost, dir string) {
	if len(h.Disks) == 0 {
		f.say("%s may open no disk. Let it: candid disk access %s --disk NAME", h.Name, h.Name)
		return
	}
	f.say("%s may open %s, and their snapshots as NAME:ID. Where %s is that directory there:", h.Name,
		strings.Join(h.Disks, ", "), dir)
	where, port, err := net.SplitHostPort(h.Address)
	if err != nil {
		f.say("  (this site serves no disks over the network at present: disk_listen in site.yaml)")
		return
	}
	for _, d := range h.Disks {
		f.say("  nbds://%s/%s?tls-certificates=%s", h.Address, url.PathEscape(d), dir)
	}
	f.say("In QEMU: -object tls-creds-x509,id=harbor,endpoint=client,dir=%s -drive driver=nbd,server.type=inet,"+
		"server.host=%s,server.port=%s,export=%s,tls-creds=harbor", dir, where, port, h.Disks[0])
}
