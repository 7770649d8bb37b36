package cli

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/internal/visible"

	"github.com/urfave/cli/v3"
)

// findAll searches all volumes, however long that takes.
func (f *session) findAll(ctx context.Context, pattern string, limit int, q url.Values) error {
	all := api.FindAll{Items: []api.FoundIn{}, LeftOut: []api.LeftOutIn{}}
	for {
		var part api.FindAll
		if err := f.whileNamesAreRead(ctx, "", func() error { return f.Get(ctx, "/find", q, &part) }); err != nil {
			return err
		}
		all.Items, all.LeftOut = append(all.Items, part.Items...), append(all.LeftOut, part.LeftOut...)
		all.Total, all.Volumes, all.Snapshots = all.Total+part.Total, all.Volumes+part.Volumes, all.Snapshots+part.Snapshots
		if part.Next == "" {
			break
		}
		fmt.Fprintf(f.err, "%s searched, %d left …\n", plural(all.Volumes, "volume", "volumes"), part.Left)
		q.Set("behind", part.Next)
	}
	slices.SortStableFunc(all.Items, func(a, b api.FoundIn) int { return b.Modified.Compare(a.Modified) })
	all.Items = all.Items[:min(len(all.Items), limit)]
	return f.show(all, func() { f.foundAll(pattern, &all) })
}

func (f *session) foundAll(pattern string, all *api.FindAll) {
	where := plural(all.Snapshots, "snapshot", "snapshots") + " of " + plural(all.Volumes, "volume", "volumes")
	if len(all.Items) == 0 {
		f.say("Nothing like %q is in the %s that were searched.", pattern, where)
	} else {
		rows := make([][]string, len(all.Items))
		for i, e := range all.Items {
			rows[i] = append([]string{e.Volume}, foundRow(&e.Found)...)
		}
		f.list([]string{"VOLUME", "PATH", "SIZE", "MODIFIED", "VERSIONS", "STATE", "SNAPSHOT"}, rows, "")
		more := ""
		if all.Total > len(all.Items) {
			more = fmt.Sprintf(" These are the %d modified last: a longer pattern, --since or --kind narrow it, --limit "+
				"shows more.", len(all.Items))
		}
		f.say("%s in %s.%s", plural(all.Total, "path", "paths"), where, more)
		i := max(0, slices.IndexFunc(all.Items, func(e api.FoundIn) bool { return !e.There }))
		e := all.Items[i]
		f.say("To bring one back: candid restore %s %s --at %s --in-place", e.Volume, visible.Word(e.Path), short(e.Snapshot))
	}
	for _, l := range all.LeftOut {
		f.say("Snapshot %s of %s could not be read and was left out: candid store verify says more.", short(l.Snapshot),
			l.Volume)
	}
}

// How soon a search that takes long tells how far it is, and how often it does then.
var toldAfter, toldEach = time.Second, 3 * time.Second

// whileNamesAreRead searches, and tells meanwhile how far the reading of names is, of one volume or of all.
func (f *session) whileNamesAreRead(ctx context.Context, volume string, search func() error) error {
	if f.json {
		return search()
	}
	ctx, over := context.WithCancel(ctx)
	told := make(chan struct{})
	go func() {
		defer close(told)
		for wait := toldAfter; ; wait = toldEach {
			select {
			case <-time.After(wait):
			case <-ctx.Done():
				return
			}
			var reading []api.NamesRead
			if f.Get(ctx, "/find/reading", nil, &reading) != nil {
				return // the search itself says what is wrong
			}
			for _, r := range reading {
				if volume == "" || volume == r.Volume {
					fmt.Fprintln(f.err, namesRead(&r))
				}
			}
		}
	}()
	defer func() { over(); <-told }()
	return search()
}

func namesRead(r *api.NamesRead) string {
	if r.Of == 0 {
		return fmt.Sprintf("Reading the names of %s, which later searches need not …", r.Volume)
	}
	return fmt.Sprintf("Reading the names of %s, which later searches need not: %s, snapshot %d of %d …", r.Volume,
		plural(int(r.Names), "name", "names"), r.Snapshot, r.Of)
}

// inVolume reads VOLUME [PATH], or one path of the host.
func (f *session) inVolume(ctx context.Context, cmd *cli.Command) (volume, path string, err error) {
	volume, paths, err := f.allInVolume(ctx, cmd)
	if err != nil {
		return "", "", err
	}
	return volume, strings.Join(paths, ""), nil
}

// allInVolume reads VOLUME [PATH...], or paths of the host that lie in one volume.
func (f *session) allInVolume(ctx context.Context, cmd *cli.Command) (volume string, paths []string, err error) {
	if !strings.HasPrefix(cmd.Args().First(), "/") {
		return cmd.Args().First(), cmd.Args().Tail(), nil
	}
	for _, at := range cmd.Args().Slice() {
		var in []api.Located
		if err := f.Get(ctx, "/paths", url.Values{"path": {at}}, &in); err != nil {
			return "", nil, err
		}
		if volume != "" && in[0].Volume != volume {
			return "", nil, misuse("%s lies in %s, and what is named before it in %s: bring them back one after the other",
				at, in[0].Volume, volume)
		}
		if volume = in[0].Volume; in[0].Path != "" {
			paths = append(paths, in[0].Path)
		}
	}
	return volume, paths, nil
}
