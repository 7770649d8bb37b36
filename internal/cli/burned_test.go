package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"candidharbor/internal/datadir"
	"candidharbor/internal/netns"
	"candidharbor/internal/service"
	"candidharbor/internal/site"

	"github.com/stretchr/testify/require"
)

const burnedPage = "../../docs/the-day-the-main-site-burned.md"

// tale is a page of the documents that is lived through: its commands are run in their order, and must say what the
// page says. Comments that are not seen say what happens between.
type tale struct {
	*desk
	on   map[string]string // identities on the page, to those of this run
	text strings.Builder   // the page as it would be written by this run
	last string            // the identity that was listed last
}

// The story of the day on which the main site burned is what happens.
func TestTheDayTheMainSiteBurned(t *testing.T) {
	n, err := netns.New()
	if err != nil { // the page tells of a host that has them
		t.Skip("this host gives no network apart: ", err)
	}
	require.NoError(t, n.Close())
	d := newDesk(t)
	s := &tale{desk: d, on: map[string]string{}}
	s.prepare()
	raw, err := os.ReadFile(burnedPage)
	require.NoError(t, err)
	event := regexp.MustCompile(`^<!-- (.*) -->$`)
	var block []string
	in, file := "", ""
	for _, line := range strings.Split(strings.TrimSuffix(string(raw), "\n"), "\n") {
		switch m := event.FindStringSubmatch(line); {
		case m != nil:
			file = s.happens(m[1])
		case in == "" && strings.HasPrefix(line, "```"):
			in, block = line, nil
		case in != "" && line == "```":
			if in == "```yaml" {
				s.put(file, strings.ReplaceAll(strings.Join(block, "\n")+"\n", "/srv", s.dir))
				s.text.WriteString(in + "\n" + strings.Join(block, "\n") + "\n")
			} else {
				s.text.WriteString(in + "\n")
				s.lives(block)
			}
			in = ""
		case in != "":
			block = append(block, line)
		}
		if in == "" {
			s.text.WriteString(line + "\n")
		}
	}
	if os.Getenv("CANDID_WRITE") != "" { // to be read before it is believed
		require.NoError(t, os.WriteFile(burnedPage, []byte(s.text.String()), 0o644))
	}
}

// prepare is what there was before.
func (s *tale) prepare() {
	s.put("share/notebooks/transect-1.txt", "walked in February\n")
	s.put("share/register/accessions.csv", "number,taxon\nLB-004711,Quercus lusitanica\n")
	require.NoError(s.t, os.MkdirAll(filepath.Join(s.dir, "station"), 0o755))
	for _, line := range []string{"volume add field-notebooks --path DIR/share/notebooks --label survey=daily",
		"volume add accession-register --path DIR/share/register --label survey=daily",
		"volume add specimen-db --size 64MiB --label survey=daily"} {
		s.must(line)
	}
	s.at = "stonewick"
	inv := s.must("site invite --grant offer --grant see")
	s.at = "larkfield"
	s.ids[strings.TrimSpace(inv)] = "INVITATION"
	s.must("site pair INVITATION --grant nothing")
	s.must("site grant stonewick offer")
	s.put("p.yaml", "policy: survey\nvolumes: {survey: daily}\ntake: [every 6 hours]\nkeep:\n  larkfield: {newest: 20}\n"+
		"  stonewick: {newest: 20}\nskip_unchanged: true\n")
	s.must("policy put DIR/p.yaml")
	s.must("route add to-stonewick --to stonewick --volumes survey=daily")
	for _, v := range []string{"field-notebooks", "accession-register", "specimen-db"} {
		s.must("snapshot take " + v)
	}
	s.must("route run to-stonewick")
}

func (s *tale) must(line string) string {
	s.t.Helper()
	out, errs, code := s.run(line)
	require.Zero(s.t, code, "candid %s: %s%s", line, out, errs)
	return out
}

// happens does what a comment of the page says. It returns the file that the next block is.
func (s *tale) happens(what string) (file string) {
	s.t.Helper()
	act, rest, _ := strings.Cut(what, " ")
	when := func() time.Time {
		t, err := time.Parse("2006-01-02 15:04", rest)
		require.NoError(s.t, err)
		return t
	}
	switch act {
	case "put":
		name, text, has := strings.Cut(rest, ": ")
		if !has {
			return rest
		}
		s.put(name, text+"\n")
	case "greet":
		at, to, _ := strings.Cut(rest, " ")
		_, err := s.sites[at].Site.Pairing.CheckPeer(context.Background(), to)
		require.NoError(s.t, err)
	case "clock":
		s.clock.Set(when())
	case "until":
		for to := when(); ; {
			next := to
			for _, x := range s.sites {
				due, err := x.Site.Step(context.Background(), true)
				require.NoError(s.t, err)
				if !due.IsZero() && due.Before(next) {
					next = due
				}
			}
			if s.clock.Set(next); !next.Before(to) {
				return ""
			}
		}
	case "stop":
		s.sites[rest].Stop()
		delete(s.sites, rest)
	case "start":
		x, err := service.Start(site.Options{Data: filepath.Join(s.dir, rest), Name: rest, Listen: "127.0.0.1:0",
			PeerListen: "127.0.0.1:0", Roots: []string{s.dir}, Setup: func(*datadir.Config) {}, Clock: s.clock})
		require.NoError(s.t, err)
		s.sites[rest] = x
		for _, p := range []string{"larkfield", "stonewick"} {
			if p != rest {
				_, err := x.Site.Pairing.CheckPeer(context.Background(), p)
				require.NoError(s.t, err)
			}
		}
	case "quiet":
		name, volume, _ := strings.Cut(rest, " ")
		for range 500 {
			a, err := s.sites[name].Site.Failover.Authority(volume)
			require.NoError(s.t, err)
			if a.Back != nil && a.Back.Confirmed != nil {
				return ""
			}
			s.clock.Set(s.clock.Now().Add(31 * time.Second))
			time.Sleep(5 * time.Millisecond)
		}
		s.t.Fatal("it does not stand back")
	default:
		s.t.Fatalf("the page has %q happen", what)
	}
	return ""
}

var (
	manyBlanks = regexp.MustCompile(`[ \t]+`)
	pageID     = regexp.MustCompile(`\b[0-9a-f]{12}(?:[0-9a-f]{4}|[0-9a-f]{52})?\b`)
)

// plain is what was printed, with columns apart by one blank.
func (s *tale) plain(text string) string {
	lines := strings.Split(strings.ReplaceAll(strings.TrimRight(text, "\n"), s.dir, "/srv"), "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(manyBlanks.ReplaceAllString(lines[i], " "), " ")
	}
	return sizes.ReplaceAllString(strings.Join(lines, "\n"), "N $1$2")
}

// lives runs the commands of a block, and compares.
func (s *tale) lives(block []string) {
	s.t.Helper()
	prompt := regexp.MustCompile(`^(larkfield|stonewick)\$ candid (.*)$`)
	for i := 0; i < len(block); {
		m := prompt.FindStringSubmatch(block[i])
		require.NotNil(s.t, m, "%s", block[i])
		from := i + 1
		for i++; i < len(block) && !prompt.MatchString(block[i]); i++ {
		}
		s.at = m[1]
		line := strings.ReplaceAll(m[2], "/srv", "DIR")
		line = pageID.ReplaceAllStringFunc(line, func(id string) string { return s.on[id[:12]] })
		line = strings.ReplaceAll(line, " ID", " "+s.last) // on a page that is being written
		out := s.must(line)
		said := strings.Join(block[from:i], "\n")
		mine, theirs := pageID.FindAllString(out, -1), pageID.FindAllString(said, -1)
		if os.Getenv("CANDID_WRITE") != "" {
			fmt.Fprintf(&s.text, "%s$ candid %s\n%s", m[1], strings.ReplaceAll(line, "DIR", "/srv"), s.columns(out))
			for k, id := range mine {
				if len(theirs) == len(mine) {
					s.on[theirs[k][:12]] = id
				}
				if s.on[id[:12]] = id; line == "left-behind list" {
					s.last = id
				}
			}
			continue
		}
		require.Len(s.t, mine, len(theirs), "%s\n%s", block[from-1], out)
		for k, id := range theirs {
			require.Equal(s.t, len(id), len(mine[k]))
			s.on[id[:12]] = mine[k]
			out = strings.Replace(out, mine[k], id, 1)
		}
		require.Equal(s.t, s.plain(said), s.plain(out), "%s", block[from-1])
	}
}

// columns lays tables out as a terminal does.
func (s *tale) columns(out string) string {
	lines := strings.Split(strings.TrimRight(strings.ReplaceAll(out, s.dir, "/srv"), "\n"), "\n")
	var b strings.Builder
	for i := 0; i < len(lines); {
		if !strings.Contains(lines[i], "\t") {
			b.WriteString(lines[i] + "\n")
			i++
			continue
		}
		var rows [][]string
		var width []int
		for ; i < len(lines) && strings.Contains(lines[i], "\t"); i++ {
			cells := strings.Split(lines[i], "\t")
			for k, c := range cells {
				if k == len(width) {
					width = append(width, 0)
				}
				width[k] = max(width[k], len([]rune(c)))
			}
			rows = append(rows, cells)
		}
		for _, cells := range rows {
			line := ""
			for k, c := range cells {
				line += fmt.Sprintf("%-*s  ", width[k], c)
			}
			b.WriteString(strings.TrimRight(line, " ") + "\n")
		}
	}
	return b.String()
}
