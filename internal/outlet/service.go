package outlet

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"candidharbor/api"
	"candidharbor/core/pace"
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"
	"candidharbor/internal/pairing"
	"candidharbor/internal/policy"
	"candidharbor/internal/refusal"
	"candidharbor/internal/route"
	"candidharbor/internal/rules"
	"candidharbor/internal/run"

	"golang.org/x/crypto/ssh"
)

// Service lays volumes out at other machines.
type Service struct {
	*datadir.Dir
	run     *run.Engine
	pairing *pairing.Service
	routes  *route.Service

	mu   sync.Mutex
	used map[string]map[string][]string // by lineage and snapshot; nil: to be read
}

// New works in a data directory.
func New(dir *datadir.Dir, run *run.Engine, pairing *pairing.Service, rules *rules.Service,
	routes *route.Service) *Service {
	s := &Service{Dir: dir, run: run, pairing: pairing, routes: routes}
	rules.Uses(s.uses)
	return s
}

// uses names, by snapshot of a history, the outlets where something of it lies: what lies there is compared with it
// next time. It is asked for every volume that is decided on, and so kept in memory.
func (s *Service) uses(lineage string) (map[string][]string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.used == nil {
		all, err := s.Catalog.LaidOut("")
		if err != nil {
			return nil, err
		}
		s.used = map[string]map[string][]string{}
		for _, l := range all {
			of := s.used[l.Lineage]
			if of == nil {
				of = map[string][]string{}
				s.used[l.Lineage] = of
			}
			for _, id := range l.Bases.V {
				of[id] = append(of[id], rules.OutletUse+l.Outlet)
			}
		}
	}
	return s.used[lineage], nil
}

// put notes what lies at an outlet of one volume.
func (s *Service) put(l *catalog.LaidOut) error { return s.changes(s.Catalog.PutLaidOut(l)) }

// changes has the uses read anew that a write may have changed.
func (s *Service) changes(err error) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.used = nil
	return err
}

// key is what lets this site in at other machines, made when it is first asked for.
func (s *Service) key() (ed25519.PrivateKey, error) {
	return datadir.LoadKey(filepath.Join(filepath.Dir(datadir.KeyPath(s.Path)), "outlet.pem"))
}

// Key tells the line that lets this site in, and does nothing there but files.
func (s *Service) Key() (*api.OutletKey, error) {
	own, err := s.key()
	if err != nil {
		return nil, err
	}
	public, err := ssh.NewPublicKey(own.Public())
	if err != nil {
		return nil, err
	}
	line := bytes.TrimSpace(ssh.MarshalAuthorizedKey(public))
	return &api.OutletKey{Line: fmt.Sprintf("restrict,command=\"internal-sftp\" %s candid-harbor@%s", line, s.Name())}, nil
}

// HostKey tells which key a machine shows, before anything is sent to it.
func (s *Service) HostKey(ctx context.Context, ask api.OutletLook) (*api.OutletHostKey, error) {
	a, err := parseAddress(ask.To)
	if err != nil {
		return nil, err
	}
	own, err := s.key()
	if err != nil {
		return nil, err
	}
	h, err := dial(ctx, a, own, "", func(ssh.PublicKey) bool { return false })
	var other *otherKey
	if errors.As(err, &other) {
		return &api.OutletHostKey{HostKey: ssh.FingerprintSHA256(other.shown)}, nil
	}
	if err == nil { // no key is good
		err = h.Close()
	}
	return nil, s.refused(a, "", err)
}

// Add opens an outlet. The machine must show the key that is named, and let this site in.
func (s *Service) Add(ctx context.Context, ask api.OutletAdd) (*api.Outlet, error) {
	if s.IsPlace {
		return nil, pairing.ErrPlaceHolds
	}
	if err := policy.CheckName("outlet", ask.Name); err != nil {
		return nil, refusal.Wrap(refusal.Misuse, err)
	}
	a, err := parseAddress(ask.To)
	if err != nil {
		return nil, err
	}
	if (len(ask.Labels) == 0) == (len(ask.Names) == 0) {
		return nil, refusal.Badf("an outlet needs volumes: choose them by labels, or by names")
	}
	for _, n := range ask.Names {
		v, err := s.Catalog.Volume(n)
		if err != nil {
			return nil, err
		}
		if v.IsDisk() {
			return nil, refusal.Badf("volume %s is a disk, which is no directory of files", n)
		}
	}
	o := &catalog.Outlet{Name: ask.Name, User: a.user, Address: a.host, Dir: a.dir, Made: catalog.At(s.Clock.Now()),
		Volumes: catalog.JSON[catalog.Selection]{V: catalog.Selection{Labels: ask.Labels, Names: ask.Names}}}
	if ask.Cap != "" {
		if o.Cap, err = pace.ParseRate(ask.Cap); err != nil {
			return nil, refusal.Wrap(refusal.Misuse, err)
		}
		if o.Cap == 0 {
			return nil, refusal.Badf("a cap of nothing lays nothing out: pause the outlet instead")
		}
		o.Cap = max(o.Cap, 0)
	}
	others, err := s.Catalog.Outlets()
	if err != nil {
		return nil, err
	}
	for _, other := range others {
		switch {
		case other.Name == o.Name:
			return nil, refusal.Conflictf("outlet %q is there already: choose another name", o.Name)
		case other.Address == o.Address && (within(other.Dir, o.Dir) || within(o.Dir, other.Dir)):
			return nil, refusal.Conflictf("%s overlaps with %s of the outlet %s: each needs a directory of its own", o.Dir,
				other.Dir, other.Name)
		}
	}
	own, err := s.key()
	if err != nil {
		return nil, err
	}
	var shown ssh.PublicKey
	good := func(k ssh.PublicKey) bool {
		shown = k
		return ssh.FingerprintSHA256(k) == ask.HostKey
	}
	h, err := dial(ctx, a, own, "", good)
	var other *otherKey
	var out *notIn
	for _, kind := range []string{ssh.KeyAlgoED25519, ssh.KeyAlgoECDSA256, ssh.KeyAlgoRSA} { // it has one of each kind
		if ask.HostKey == "" || !errors.As(err, &other) || other.shown.Type() == kind {
			continue
		}
		if of, kerr := dial(ctx, a, own, kind, good); kerr == nil || errors.As(kerr, &out) {
			h, err = of, kerr
		}
	}
	if err != nil {
		return nil, s.refused(a, ask.HostKey, err)
	}
	defer h.Close()
	if err := h.MkdirAll(a.dir); err != nil {
		return nil, refusal.Wrap(refusal.Elsewhere, fmt.Errorf("the directory %s cannot be made at %s: %w", a.dir, a.host,
			err))
	}
	o.HostKey = string(bytes.TrimSpace(ssh.MarshalAuthorizedKey(shown)))
	added, err := s.Catalog.AddOutlet(o)
	if err == nil && !added {
		err = refusal.Conflictf("outlet %q is there already: choose another name", o.Name)
	}
	if err != nil {
		return nil, err
	}
	s.run.Changed("outlets")
	return s.Outlet(o.Name)
}

func within(dir, of string) bool { return dir == of || strings.HasPrefix(dir, of+"/") }

// refused says what to do about a machine that cannot be used, before it is an outlet.
func (s *Service) refused(a address, given string, err error) error {
	var other *otherKey
	var out *notIn
	switch {
	case errors.As(err, &other) && given == "":
		return refusal.Conflictf("%s shows the key %s. Compare it there, with ssh-keygen -lf and the %s key below /etc/ssh, "+
			"and give it with --host-key", a.host, ssh.FingerprintSHA256(other.shown), kindWords(other.shown))
	case errors.As(err, &other):
		return refusal.Conflictf("%s shows the key %s, not %s: nothing was sent to it", a.host,
			ssh.FingerprintSHA256(other.shown), given)
	case errors.As(err, &out):
		return refusal.Wrap(refusal.Elsewhere, fmt.Errorf("%s: %w. Add what candid outlet key prints to authorized_keys "+
			"of %s there", a.host, err, a.user))
	}
	return refusal.Wrap(refusal.Elsewhere, fmt.Errorf("%s cannot be reached: %w", a.host, plain(err)))
}

func kindWords(k ssh.PublicKey) string {
	return strings.TrimSuffix(strings.TrimPrefix(k.Type(), "ssh-"), "-nistp256")
}

// fingerprint is the short form of a key as it is stored.
func fingerprint(stored string) string {
	key, err := knownKey(stored)
	if err != nil {
		return base64.RawStdEncoding.EncodeToString([]byte(stored))
	}
	return ssh.FingerprintSHA256(key)
}

// Remove closes an outlet. What lies there stays.
func (s *Service) Remove(name string) (string, error) {
	o, err := s.Catalog.Outlet(name)
	if err != nil {
		return "", err
	}
	if err := s.changes(s.Catalog.RemoveOutlet(name)); err != nil {
		return "", err
	}
	s.run.StopRun("outlet", name)
	s.run.Changed("outlets")
	return fmt.Sprintf("The outlet %s is closed: nothing more is laid out there. What lies in %s stays, as plain files.",
		name, addressOf(o)), nil
}

// Pause stops an outlet until it is resumed.
func (s *Service) Pause(name string, paused bool) (string, error) {
	if _, err := s.Catalog.Outlet(name); err != nil {
		return "", err
	}
	at := time.Time{}
	if paused {
		at = s.Clock.Now()
	}
	changed, err := s.Catalog.PauseOutlet(name, at)
	switch {
	case err != nil:
		return "", err
	case !changed && paused:
		return "", refusal.Conflictf("outlet %s is paused already", name)
	case !changed:
		return "", refusal.Conflictf("outlet %s is not paused", name)
	}
	if paused {
		s.run.StopRun("outlet", name)
	}
	s.run.Tell("outlets")
	if paused {
		return fmt.Sprintf("Outlet %s is paused. What lies there stays as it is, until candid outlet resume %s.", name,
			name), nil
	}
	return fmt.Sprintf("Outlet %s goes on.", name), nil
}

func addressOf(o *catalog.Outlet) address { return address{user: o.User, host: o.Address, dir: o.Dir} }

// chosen are the volumes that an outlet lays out, and those that it chooses and that are disks.
func chosen(o *catalog.Outlet, vols []*catalog.Volume) (files []*catalog.Volume, disks []string) {
	for _, v := range vols {
		switch {
		case !o.Volumes.V.Holds(v):
		case v.IsDisk():
			disks = append(disks, v.Name)
		default:
			files = append(files, v)
		}
	}
	slices.Sort(disks)
	return files, disks
}
