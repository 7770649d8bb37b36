package cli

import (
	"path/filepath"
	"testing"

	"candidharbor/internal/sftphost"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// An outlet from the first refusal to its end, as an administrator meets it.
func TestOutlets(t *testing.T) {
	d := newDesk(t)
	d.reads("outlet list", `
No outlets yet. candid outlet key shows what lets this site in at a machine; then candid outlet add NAME \
sftp://USER@HOST/DIR --volumes key=value
`)
	d.run("volume add letters --path DIR/share --label k=v")
	key, err := d.sites["larkfield"].Site.Outlets.Key()
	require.NoError(t, err)
	out, _, _ := d.run("outlet key")
	require.Equal(t, key.Line+"\n", out)
	require.Regexp(t, `^restrict,command="internal-sftp" ssh-ed25519 \S+ candid-harbor@larkfield\n$`, out)
	h, err := sftphost.Start("127.0.0.1:0", key.Line)
	require.NoError(t, err)
	defer h.End()
	to := "sftp://copies@" + h.Address + filepath.Join(d.dir, "nas")
	d.refuses("outlet add nas --volumes k=v", 2, "takes NAME SFTP-ADDRESS")
	d.refuses("outlet add nas nas:/srv --volumes k=v", 2, "write sftp://USER@HOST/DIR")
	_, errs, code := d.run("outlet add nas " + to + " --volumes k=v")
	require.Equal(t, 1, code)
	require.Contains(t, errs, "shows the key "+ssh.FingerprintSHA256(h.Key)+". Compare it there")
	d.reads("outlet add nas "+to+" --volumes k=v --host-key "+ssh.FingerprintSHA256(h.Key)+" --cap '50 MiB/s'", `
The outlet nas is open. It waits for the first snapshot of 1 volume.
`)
	d.run("snapshot take letters")
	d.reads("outlet run nas", `
1 volume brought up to date; 2 written, N KiB sent and read back
`)
	d.reads("outlet show nas", `
nas is current. The newest state of 1 volume lies there.
It lies at sftp://copies@ADDRDIR/nas, whose key is FINGERPRINT, at most 50 MiB/s.
VOLUME	AS OF	READ BACK	
letters	2026-03-02 09:00:00	-	newest
`)
	d.reads("outlet verify nas", `
all of 1 volume was read back and is as it should be
`)
	d.reads("outlet pause nas", `
Outlet nas is paused. What lies there stays as it is, until candid outlet resume nas.
`)
	d.refuses("outlet run nas", 1, "candid outlet resume nas")
	d.refuses("outlet pause nas", 1, "paused already")
	d.reads("outlet list", `
OUTLET	TO	STATE	LAST DONE	
nas	sftp://copies@ADDRDIR/nas	paused	2026-03-02 09:00:00	It is paused since 2026-03-02 09:00:00; what lies \
there is the newest all the same.
`)
	d.reads("outlet resume nas", `
Outlet nas goes on.
`)
	h.End()
	d.refuses("outlet run nas", 1, "refused")
	d.reads("outlet list", `
OUTLET	TO	STATE	LAST DONE	
nas	sftp://copies@ADDRDIR/nas	no line	2026-03-02 09:00:00	ADDR cannot be reached since 2026-03-02 09:00:00: \
connect: connection refused. Next try 2026-03-02 09:00:30; what lies there is the newest all the same.
`)
	d.reads("outlet remove nas", `
The outlet nas is closed: nothing more is laid out there. What lies in sftp://copies@ADDRDIR/nas stays, as \
plain files.
`)
	d.refuses("outlet show nas", 1, `outlet "nas"`)
}
