package cli

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

func diskCommand() *cli.Command {
	path := func(cmd *cli.Command, act string) string { return "/disks/" + url.PathEscape(cmd.Args().First()) + act }
	show := func(f *session, d api.Disk) error {
		return f.show(d, func() { f.say("%s", d.Sentence) })
	}
	return &cli.Command{Name: "disk", Usage: "disks that the site serves over NBD", Commands: []*cli.Command{
		{Name: "list", Usage: "all disks and who has them open", Description: "Example: candid disk list",
			Action: with("", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var all []api.Disk
				if err := f.Get(ctx, "/disks", nil, &all); err != nil {
					return err
				}
				return f.show(all, func() {
					var rows [][]string
					for _, d := range all {
						holds, changed := size(d.SizeBytes), size(d.ChangedBytes)
						if d.State == api.DiskMissing {
							holds = "-"
						}
						if d.State == api.DiskMissing || d.State == api.DiskCopy {
							changed = "-"
						}
						open := strconv.Itoa(len(d.Clients))
						rows = append(rows, []string{d.Name, holds, d.State, open, changed,
							d.Address})
					}
					f.list([]string{"DISK", "SIZE", "STATE", "CONNECTIONS", "CHANGED", "ADDRESS"}, rows,
						"No disks yet. Make one: candid volume add NAME --size SIZE")
				})
			})},
		{Name: "show", Usage: "one disk, its clients, and the line with which a client opens it", ArgsUsage: "NAME",
			Description: "Example: candid disk show specimen-db",
			Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var d api.Disk
				if err := f.Get(ctx, path(cmd, ""), nil, &d); err != nil {
					return err
				}
				return f.show(d, func() { diskShow(f, d) })
			})},
		{Name: "grow", Usage: "make a disk larger; clients see it when they connect anew", ArgsUsage: "NAME SIZE",
			Description: "Example: candid disk grow specimen-db 2GiB",
			Action: with("NAME SIZE", func(ctx context.Context, f *session, cmd *cli.Command) error {
				n, err := parseSize(cmd.Args().Get(1))
				if err != nil {
					return err
				}
				var d api.Disk
				if err := f.Put(ctx, path(cmd, "/size"), api.DiskGrow{SizeBytes: n}, &d); err != nil {
					return err
				}
				return f.show(d, func() { f.say("%s has %s now.", d.Name, size(d.SizeBytes)) })
			})},
		{Name: "fill", Usage: "bring what a clone, or a disk that went back, reads from a snapshot into its image, and " +
			"first what another site still has of it; or give a copy an image that follows each arrival",
			ArgsUsage: "NAME", Description: "Example: candid disk fill db-trial",
			Flags: append(runFlags(), &cli.BoolFlag{Name: "end", Usage: "have a copy be without an image again"}),
			Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
				if cmd.Bool("end") {
					var d api.Disk
					if err := f.Delete(ctx, path(cmd, "/fill"), &d); err != nil {
						return err
					}
					return show(f, d)
				}
				var r api.Run
				if err := f.Post(ctx, path(cmd, "/fill"), nil, &r); err != nil {
					return err
				}
				return f.follow(ctx, cmd, &r)
			})},
		{Name: "writes", Usage: "where a disk was written from one snapshot to the next, drawn from its beginning to its end",
			ArgsUsage: "NAME", Description: "Example: candid disk writes specimen-db --last 14",
			Flags: []cli.Flag{&cli.IntFlag{Name: "last", Value: 24, Usage: "as many snapshots, up to 200"}},
			Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var all []api.DiskWrites
				if err := f.Get(ctx, "/volumes/"+url.PathEscape(cmd.Args().First())+"/writes",
					url.Values{"last": {strconv.Itoa(cmd.Int("last"))}}, &all); err != nil {
					return err
				}
				return f.show(all, func() {
					var rows [][]string
					for _, w := range all {
						rows = append(rows, []string{when(w.To), size(w.WrittenBytes), "|" + along(w.SizeBytes, w.Along) + "|"})
					}
					f.list([]string{"UNTIL", "WRITTEN", "FROM ITS BEGINNING TO ITS END"}, rows,
						"It takes two snapshots to tell what was written between them.")
				})
			})},
		{Name: "close", Usage: "keep clients from opening a disk", ArgsUsage: "NAME",
			Description: "Example: candid disk close specimen-db",
			Flags: []cli.Flag{&cli.BoolFlag{Name: "disconnect", Usage: "disconnect the clients that have it open: they lose " +
				"what they did not flush, and must open it anew"}},
			Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var d api.Disk
				if err := f.Post(ctx, path(cmd, "/close"), api.DiskClose{Disconnect: cmd.Bool("disconnect")}, &d); err != nil {
					return err
				}
				return show(f, d)
			})},
		{Name: "open", Usage: "let clients open a disk that was closed, or that failed", ArgsUsage: "NAME",
			Description: "Example: candid disk open specimen-db",
			Flags: []cli.Flag{
				&cli.BoolFlag{Name: "moved", Usage: "its image is a copy of the file that it was written to, put there with the " +
					"disk's records while neither was in use; the next snapshot reads all of it"},
				&cli.StringFlag{Name: "at", Usage: "WHEN: tell how the snapshot that stands for this moment is opened, which can " +
					"only be read; the disk stays as it is"},
				&cli.BoolFlag{Name: "read-only", Usage: "the same of the newest snapshot"},
				&cli.BoolFlag{Name: "shared", Usage: "let several clients write at once, as cluster filesystems do; " +
					"--shared=false lets one alone"},
				&cli.BoolFlag{Name: "yes", Usage: "do not ask again"}},
			Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var d api.Disk
				if cmd.IsSet("at") || cmd.Bool("read-only") {
					return f.snapshotOfDisk(ctx, cmd.Args().First(), cmp.Or(cmd.String("at"), "latest"))
				}
				if cmd.IsSet("shared") {
					if cmd.Bool("shared") && !cmd.Bool("yes") {
						if err := f.typed("several clients that write at once destroy any filesystem that is not made for that",
							cmd.Args().First()); err != nil {
							return err
						}
					}
					if err := f.Put(ctx, path(cmd, "/shared"), api.DiskShare{Shared: cmd.Bool("shared")}, &d); err != nil {
						return err
					}
				}
				if err := f.Post(ctx, path(cmd, "/open"), api.DiskOpen{Moved: cmd.Bool("moved")}, &d); err != nil {
					return err
				}
				return show(f, d)
			})},
		{Name: "release", Usage: "end the hold of a client that does not come back", ArgsUsage: "NAME",
			Description: "Example: candid disk release specimen-db",
			Action: with("NAME", func(ctx context.Context, f *session, cmd *cli.Command) error {
				var d api.Disk
				if err := f.Post(ctx, path(cmd, "/release"), nil, &d); err != nil {
					return err
				}
				return show(f, d)
			})},
		diskAccessCommand(),
	}}
}

// snapshotOfDisk tells how a client opens the snapshot that stands for a moment here.
func (f *session) snapshotOfDisk(ctx context.Context, name, at string) error {
	var d api.Disk
	if err := f.Get(ctx, "/disks/"+url.PathEscape(name), nil, &d); err != nil {
		return err
	}
	var all api.AsOf
	if err := f.Get(ctx, "/volumes/"+url.PathEscape(name)+"/as-of", url.Values{"at": {instant(at)}}, &all); err != nil {
		return err
	}
	is := all.Places[0] // this site
	if is.Snapshot == "" {
		return fmt.Errorf("no snapshot of %s here stands for that moment. %s", name, all.Sentence)
	}
	export := "/" + url.PathEscape(name)
	d.Address = strings.Replace(d.Address, export+"?", export+":"+short(is.Snapshot)+"?", 1)
	return f.show(d, func() { f.say("%s (%s) can be read, and not written, as %s", name, is.Answer, d.Address) })
}

// compareDisk tells in which bytes two moments of a disk differ.
func (f *session) compareDisk(ctx context.Context, volume string, q url.Values, ranges bool) error {
	q.Del("path")
	var c api.DiskComparison
	if err := f.Get(ctx, "/volumes/"+url.PathEscape(volume)+"/ranges", q, &c); err != nil {
		return err
	}
	return f.show(c, func() {
		f.say("%s from %s", volume, sideText(&c.From))
		f.say("to %s:", sideText(&c.To))
		if c.DiffersBytes == 0 {
			f.say("Nothing differs.")
			return
		}
		f.say("|%s|", along(c.SizeBytes, c.Along))
		if ranges {
			var rows [][]string
			for _, r := range c.Ranges {
				rows = append(rows, []string{strconv.FormatInt(r.Offset, 10), strconv.FormatInt(r.Bytes, 10), size(r.Bytes)})
			}
			f.list([]string{"OFFSET", "BYTES", ""}, rows, "")
		}
		more := "--ranges lists them"
		if c.Cut {
			more = "there are more"
		} else if ranges {
			more = "all of them"
		}
		f.say("%s of %s differ, in %s of blocks of %s; %s.", size(c.DiffersBytes), size(c.SizeBytes),
			plural(len(c.Ranges), "stretch", "stretches"), size(c.BlockBytes), more)
	})
}

// along draws a disk from its beginning to its end: the more of a part differs, the darker it is.
func along(bytes int64, parts []int64) string {
	part := (bytes + int64(len(parts)) - 1) / int64(len(parts))
	shades := []rune(" ░▒▓█")
	out := make([]rune, len(parts))
	for i, n := range parts {
		k := 0
		if n > 0 {
			k = 1 + int(min(3, 4*n/max(1, part)))
		}
		out[i] = shades[k]
	}
	return string(out)
}

func diskShow(f *session, d api.Disk) {
	f.say("%s", d.Sentence)
	if d.State == api.DiskMissing {
		f.say("Image: %s", d.Image)
		return
	}
	if d.State == api.DiskCopy {
		f.say("Size %s, in blocks of %s.", size(d.SizeBytes), size(d.BlockBytes))
		if d.Image != "" {
			f.say("Image: %s", d.Image)
		} else if d.SizeBytes > 0 {
			f.say("It is read from the store. Give it an image, which follows each arrival: candid disk fill %s", d.Name)
		}
	} else {
		f.say("Size %s, in blocks of %s; the next snapshot reads %s. Image: %s", size(d.SizeBytes), size(d.BlockBytes),
			size(d.ChangedBytes), d.Image)
	}
	if d.UnfilledBytes > 0 && d.ArrivingFrom == "" && d.State != api.DiskCopy {
		f.say("Up to %s are read from a snapshot. Bring that into the image: candid disk fill %s", size(d.UnfilledBytes),
			d.Name)
	}
	if d.State != api.DiskClosed {
		f.say("A client on this host opens it as %s", d.Address)
	}
	switch {
	case len(d.Hosts) > 0:
		f.say("Over the network, at %s: %s. How: candid disk access HOST", d.Network, strings.Join(d.Hosts, ", "))
	case d.Network != "":
		f.say("No host opens it over the network. Let one: candid disk access HOST --disk %s", d.Name)
	}
	if d.Shared {
		f.say("Several clients may write to it at once. One alone: candid disk open %s --shared=false", d.Name)
	}
	if len(d.Clients) == 0 {
		return
	}
	var rows [][]string
	for _, c := range d.Clients {
		program, process, user := c.Program, strconv.FormatInt(c.Process, 10), strconv.FormatInt(c.User, 10)
		if c.Host != "" {
			program, process, user = c.Host+" ("+c.From+")", "-", "-"
		}
		each := "-"
		if c.Requests > 0 {
			each = fmt.Sprintf("%.2f ms", float64(c.WaitedMicros)/float64(c.Requests)/1000)
		}
		rows = append(rows, []string{program, process, user, when(c.Since), size(c.ReadBytes), size(c.WrittenBytes),
			strconv.FormatInt(c.Flushes, 10), strconv.FormatInt(c.Requests, 10), each})
	}
	f.list([]string{"CLIENT", "PROCESS", "USER", "SINCE", "READ", "WRITTEN", "FLUSHES", "REQUESTS", "EACH TOOK"}, rows, "")
}
