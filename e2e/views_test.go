package e2e

import (
	"bytes"
	"cmp"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// motley makes a tree with every kind of entry and everything that is recorded of one.
func motley(t testing.TB, dir string) {
	shell(t, filepath.Dir(dir), "mkdir "+filepath.Base(dir))
	shell(t, dir, `mkdir -p deep/er/est "with space" many
printf 'text\n' > plain; : > empty; ln plain deep/second-name; ln -s plain link
ln -s ../../nowhere deep/dangling; ln -s deep/er dirlink
printf 'other\n' > "$(printf 'not-utf8-\377')"; printf 'x' > 'Ünïcode – name.txt'; printf 'x' > '100% sure?#.txt'
head -c 3000000 /dev/urandom > big; yes 'the same line' | head -c 5000000 > repeated
truncate -s 20M sparse; printf end >> sparse
for i in $(seq 1 2500); do echo $i > many/f$i; done
mkfifo pipe; chmod 4755 plain; chmod 2750 deep; chmod 1777 "with space"; chmod 0 empty; chmod 600 big
setfattr -n user.note -v herbarium plain; setfacl -m u:1234:rw big
touch -d '2001-02-03 04:05:06.123456789' big deep/er`)
	if os.Geteuid() == 0 {
		shell(t, dir, `mknod null c 1 3; mknod disk b 7 9; chown 1234:4321 repeated; chown -h 12:34 link`)
	}
}

var digests sync.Map // of trees that others are compared with: they stay as they are

// alike compares a tree with one that stays as it is, entries too that diff cannot compare.
func alike(t testing.TB, want, b string) {
	list := func(dir string) string {
		out, err := exec.Command("sh", "-c", `cd "$1" && find . -printf '%p %y %m %U:%G %n %T@ %l\n' | LC_ALL=C sort`, "sh",
			dir).Output()
		require.NoError(t, err)
		return string(out)
	}
	a, ok := digests.Load(want)
	if !ok {
		a = digest(t, want)
		digests.Store(want, a)
	}
	if got := digest(t, b); a != got {
		require.Equal(t, list(want), list(b))
		require.Equal(t, a, got)
	}
}

// Everything that was recorded is the same, compared apart from the program, over every
// way out: elsewhere, in place, tar, ZIP, mount, WebDAV, the far site.
func TestWaysOut(t *testing.T) {
	base := t.TempDir()
	for _, d := range []string{base, filepath.Dir(base)} { // others than root come by
		require.NoError(t, os.Chmod(d, 0o755))
	}
	src := filepath.Join(base, "share")
	motley(t, src)
	shell(t, src, "cp -a "+filepath.Join(goroot(t), "src", cmp.Or(os.Getenv("CANDID_WAYS_TREE"), "."))+" code")
	a := serve(t, filepath.Join(base, "a"), "larkfield", base)
	b := serve(t, filepath.Join(base, "b"), "stonewick", base)
	a.run("volume", "add", "share", "--path", src, "--label", "k=v")
	pair(t, a, b, "k=v")
	a.run("snapshot", "take", "share")
	a.run("route", "run", "to-dr")
	id := a.snapshots("share")[0].ID
	want := filepath.Join(base, "want")
	shell(t, base, "cp -a share want")
	out := func(name string) string { return filepath.Join(base, name) }

	a.run("restore", "share", "--at", id, "--to", out("elsewhere"))
	alike(t, want, out("elsewhere"))
	b.run("restore", "share@larkfield", "--at", id, "--to", out("far"))
	alike(t, want, out("far"))
	a.run("restore", "share", "--at", id, "--tar", out("t.tar"))
	shell(t, base, "mkdir untarred; tar --xattrs --xattrs-include='*' --numeric-owner -xpf t.tar -C untarred")
	alike(t, want, out("untarred"))
	a.run("restore", "share", "--at", id, "--zip", out("z.zip"), "code", "big", "link")
	shell(t, base, "mkdir unzipped; cd unzipped; unzip -q ../z.zip; diff -r ../want/code code; cmp ../want/big big; "+
		"test \"$(readlink link)\" = plain")
	a.run("restore", "share", "--at", id, "--file", out("one"), "repeated")
	shell(t, base, "cmp one want/repeated")

	shell(t, src, "rm -rf deep many code; echo more >> big; chmod 644 plain; mkdir made")
	a.run("restore", "share", "--at", id, "--in-place")
	a.run("snapshot", "take", "share")
	alike(t, want, src)

	t.Run("clone", func(t *testing.T) {
		if os.Geteuid() != 0 {
			t.Skip("mounting needs root")
		}
		at, after := out("play"), out("after")
		require.NoError(t, os.Mkdir(at, 0o755))
		a.run("clone", "create", "play", "share", at, "--at", id)
		alike(t, want, at)
		var c struct{ Changed, Bytes int64 }
		a.json(&c, "clone", "show", "play")
		require.Zero(t, c.Changed)
		shell(t, at, "echo changed >> plain; rm -r $(find code -type d -name http | head -1); mkdir new; mv $(find code "+
			"-type d -name url | head -1) renamed; echo x > new/f; chmod 600 big; ln plain new/second; setfattr -n user.mine "+
			"-v 1 repeated; rm link; ln -s new/f link")
		shell(t, base, "cp -a play after")
		alike(t, want, out("elsewhere"))
		a.json(&c, "clone", "show", "play")
		require.Positive(t, c.Changed)
		var big os.FileInfo
		big, err := os.Stat(filepath.Join(want, "big"))
		require.NoError(t, err)
		require.Less(t, c.Bytes, big.Size()+8<<20, "it takes what was changed, and not the tree")

		_, err = a.try("snapshot", "remove", id)
		require.ErrorContains(t, err, "what the clone play stands on")
		a.kill() // nothing hangs afterwards, and what was changed is there again
		a.start()
		alike(t, after, at)
		a.run("clone", "snapshot", "play", "--note", "tried")
		a.run("restore", "play", "--at", "latest", "--to", out("of-clone"))
		alike(t, after, out("of-clone"))
		_, err = a.try("clone", "discard", "play")
		require.ErrorContains(t, err, "say --yes when that is meant")
		_, err = a.try("clone", "discard", "play", "--yes")
		require.ErrorContains(t, err, "the volume play is protected where the clone is")
		a.run("clone", "make-volume", "play", "--to", out("settled"))
		alike(t, after, out("settled"))
		require.Contains(t, a.run("clone", "list"), "No clones")
		require.Contains(t, a.run("volume", "show", "play"), out("settled"))
		shell(t, base, "test -z \"$(ls play)\" && test ! -e a/clones/play")

		a.run("clone", "create", "other", "share", at)
		in, err := os.Open(filepath.Join(at, "plain"))
		require.NoError(t, err)
		_, err = a.try("clone", "discard", "other", "--yes")
		require.ErrorContains(t, err, "is in use")
		a.run("clone", "discard", "other", "--yes", "--anyway")
		in.Close()
		shell(t, base, "test -z \"$(ls play)\"")
		for _, args := range [][]string{{"x", "share", src}, {"x", "share", "/etc"}, {"x", "nothing", at},
			{"x", "share", at, "--until", "2020-01-01"}} {
			_, err := a.try(append([]string{"clone", "create"}, args...)...)
			require.Error(t, err, args)
		}
		a.run("volume", "remove", "play")
	})

	t.Run("mount", func(t *testing.T) {
		if os.Geteuid() != 0 {
			t.Skip("mounting needs root")
		}
		at := out("moments")
		require.NoError(t, os.Mkdir(at, 0o755))
		a.run("mount", "share", at)
		defer a.run("mount", "--end", at, "--anyway")
		name := a.moment(t, "share", id)
		alike(t, want, filepath.Join(at, name))
		shell(t, at, "test -d latest/code; ls previous-versions | grep -q ^@GMT-; diff -r latest/code ../want/code")
		shell(t, at, "! touch latest/x 2>/dev/null; ! rm latest/plain 2>/dev/null")
		// Rights count as they were recorded, for anybody.
		shell(t, at, fmt.Sprintf("! setpriv --reuid 5000 --regid 5000 --clear-groups cat %[1]s/empty; setpriv --reuid "+
			"5000 --regid 5000 --clear-groups cat %[1]s/plain; setpriv --reuid 1234 --regid 5000 --clear-groups cmp "+
			"%[1]s/big ../want/big; ! setpriv --reuid 5000 --regid 5000 --clear-groups cat %[1]s/big", name))
		// What is mounted holds nothing back once it is gone.
		a.run("snapshot", "remove", id)
		alike(t, want, filepath.Join(at, name))
		a.run("snapshot", "recall", id)
		// A service that is killed leaves nothing that hangs, and the next start mounts again.
		a.kill()
		a.start()
		alike(t, want, filepath.Join(at, name))
		_, err := a.try("mount", "share", at)
		require.ErrorContains(t, err, "mounted at")
		require.NoError(t, os.Mkdir(out("full"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(out("full"), "x"), nil, 0o644))
		_, err = a.try("mount", "share", out("full"))
		require.ErrorContains(t, err, "is not empty")
	})

	t.Run("previous versions by Samba", func(t *testing.T) {
		smbd, err := exec.LookPath("smbd")
		if err != nil || os.Geteuid() != 0 {
			t.Skip("needs Samba, and root for the mount")
		}
		at := out("versions")
		require.NoError(t, os.Mkdir(at, 0o755))
		a.run("mount", "share", at)
		defer a.run("mount", "--end", at, "--anyway")
		port := freePort(t)
		dir := out("samba")
		shell(t, base, "mkdir -p samba/lock samba/state samba/cache samba/private samba/pid samba/rpc; chmod 755 samba")
		conf := filepath.Join(dir, "smb.conf")
		require.NoError(t, os.WriteFile(conf, fmt.Appendf(nil, sambaConfig, port, dir, src,
			filepath.Join(at, "previous-versions")), 0o644))
		cmd := exec.Command(smbd, "--foreground", "--no-process-group", "--configfile="+conf, "--debug-stdout")
		var log bytes.Buffer
		cmd.Stdout, cmd.Stderr = &log, &log
		require.NoError(t, cmd.Start())
		defer func() { cmd.Process.Kill(); cmd.Wait() }()
		smb := func(command string) string {
			var text []byte
			for deadline := time.Now().Add(20 * time.Second); ; { // until it listens
				text, err = exec.Command("smbclient", "-s", conf, "-N", "-p", fmt.Sprint(port), "//127.0.0.1/share", "-c",
					command).CombinedOutput()
				if err == nil || time.Now().After(deadline) || !strings.Contains(string(text), "REFUSED") {
					break
				}
				time.Sleep(50 * time.Millisecond)
			}
			require.NoError(t, err, "%s\n%s", text, log.String())
			return string(text)
		}
		shell(t, src, "echo changed > repeated; chmod 644 repeated")
		a.run("snapshot", "take", "share")
		require.Contains(t, smb("allinfo repeated"), "@GMT-")
		var gmt string
		for _, l := range strings.Split(smb("allinfo repeated"), "\n") {
			if strings.HasPrefix(l, "@GMT-") && gmt == "" {
				gmt = strings.TrimSpace(l)
			}
		}
		names, err := filepath.Glob(filepath.Join(at, "previous-versions", "@GMT-*"))
		require.NoError(t, err)
		oldest := filepath.Base(names[0])
		smb(fmt.Sprintf("get %s\\repeated %s", oldest, out("by-samba")))
		shell(t, base, "cmp by-samba want/repeated")
		require.NotEmpty(t, gmt)
	})

	t.Run("WebDAV", func(t *testing.T) {
		name := a.moment(t, "share", id)
		found, err := exec.Command("find", filepath.Join(want, "code"), "-path", "*http/server.go").Output()
		require.NoError(t, err)
		source, err := filepath.Rel(filepath.Join(want, "code"), strings.TrimSpace(string(found)))
		require.NoError(t, err)
		if _, err := exec.LookPath("cadaver"); err == nil {
			home := out("home")
			require.NoError(t, os.Mkdir(home, 0o700))
			require.NoError(t, os.WriteFile(filepath.Join(home, ".netrc"),
				fmt.Appendf(nil, "machine 127.0.0.1 login someone password %s\n", a.token), 0o600))
			cmd := exec.Command("cadaver", a.url+"/dav/share/"+name+"/")
			cmd.Env = append(os.Environ(), "HOME="+home)
			cmd.Dir = base
			cmd.Stdin = strings.NewReader("ls\ncd code\nls\nget " + source + " by-cadaver\ncd ..\nget big " +
				"big-by-cadaver\nput want/plain stray\nquit\n")
			text, err := cmd.CombinedOutput()
			require.NoError(t, err, string(text))
			require.Contains(t, string(text), "Coll:   "+strings.Split(source, "/")[0])
			require.Contains(t, string(text), "405")
			shell(t, base, "cmp by-cadaver want/code/"+source+"; cmp big-by-cadaver want/big")
		} else {
			t.Log("cadaver is not here")
		}
		// All of the code, file by file.
		shell(t, base, fmt.Sprintf(`cd want
			find code -type f -printf 'url = "%s/dav/share/%s/%%p"\noutput = "../dav/%%p"\n' > ../urls &&
				curl -s -Z --fail --create-dirs -u x:%s -K ../urls
			cd ..; diff -r want/code dav/code`, a.url, name, a.token))
		curl := func(args ...string) string {
			text, err := exec.Command("curl", append([]string{"-s", "-u", "x:" + a.token, "--path-as-is"},
				args...)...).CombinedOutput()
			require.NoError(t, err, string(text))
			return string(text)
		}
		top := a.url + "/dav/share/" + name
		require.Equal(t, "text\n", curl(top+"/dirlink/../plain"), "dot segments are gone before anything is looked at")
		require.Contains(t, curl(top+"/deep/dangling"), "Not Found")
		require.Equal(t, "x", curl(top+"/100%25%20sure%3F%23.txt"))
		require.Contains(t, curl("-X", "PROPFIND", "-H", "Depth: infinity", top+"/"), "propfind-finite-depth")
		for _, path := range []string{"/../../../../etc/passwd", "/%2e%2e/%2e%2e/etc/passwd", "/..%2f..%2fetc/passwd",
			"/deep/../../../a/site.yaml"} {
			require.NotContains(t, curl("-o", "-", "-w", "%{http_code}", top+path), "root:", path)
		}
		// Everything in a large directory is told, by one look at each thing.
		list := curl("-X", "PROPFIND", "-H", "Depth: 1", top+"/many/")
		require.Equal(t, 2501, strings.Count(list, "<D:response>"))
		code, err := exec.Command("curl", "-s", "-o", "/dev/null", "-w", "%{http_code} %header{www-authenticate}",
			top+"/plain").Output()
		require.NoError(t, err)
		require.Contains(t, string(code), "401 Basic")
	})
}

const sambaConfig = `[global]
  smb ports = %[1]d
  interfaces = 127.0.0.1
  bind interfaces only = yes
  map to guest = Bad User
  guest account = nobody
  lock directory = %[2]s/lock
  state directory = %[2]s/state
  cache directory = %[2]s/cache
  private dir = %[2]s/private
  pid directory = %[2]s/pid
  ncalrpc dir = %[2]s/rpc
  disable spoolss = yes
  server role = standalone server
[share]
  path = %[3]s
  guest ok = yes
  read only = yes
  vfs objects = shadow_copy2
  shadow:snapdir = %[4]s
  shadow:basedir = %[3]s
  shadow:format = @GMT-%%Y.%%m.%%d-%%H.%%M.%%S
  shadow:sort = desc
`

// moment is the name of a snapshot's directory in views.
func (p *proc) moment(t testing.TB, volume, id string) string {
	for _, s := range p.snapshots(volume) {
		if s.ID == id {
			return s.Taken.UTC().Format("2006-01-02T15-04-05Z")
		}
	}
	t.Fatalf("no snapshot %s", id)
	return ""
}
