package failover

import (
	"errors"
	"fmt"
	"os/exec"
	"slices"
	"strings"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/authority"
	"candidharbor/internal/catalog"
	"candidharbor/internal/phrase"
	"candidharbor/internal/records"
	"candidharbor/internal/runbook"
)

func lineageOf(v *catalog.Volume) object.LineageID { return records.LineageOf(v.Lineage) }

// The codes of what a runbook needs.
const (
	needsVolumes   = "volumes"
	needsState     = "state"
	needsFresh     = "fresh"
	needsSet       = "set"
	needsAuthority = "authority"
	needsPlace     = "place"
	needsRoom      = "room"
	needsHook      = "hook"
	needsBack      = "way-back"
	needsKnown     = "known"
	needsDrill     = "drill"
	needsHost      = "host"
	needsWitness   = "witness"
)

// readiness finds whether a runbook would work now, step by step.
func (s *Service) readiness(b *runbook.Runbook) (*api.Readiness, error) {
	out := &api.Readiness{Ready: true, Checks: []api.ReadyCheck{}}
	add := func(code, about string, ok bool, command, text string, args ...any) {
		out.Checks = append(out.Checks, api.ReadyCheck{Code: code, About: about, OK: ok, Command: command,
			Text: fmt.Sprintf(text, args...)})
		out.Ready = out.Ready && ok
	}
	vols, err := s.volumesOf(b)
	if err != nil {
		add(needsVolumes, b.Name, false, "", "%s", err)
		out.Sentence = readySentence(out)
		return out, nil
	}
	for _, v := range vols {
		if err := s.volumeReady(b, &v, add); err != nil {
			return nil, err
		}
	}
	for _, st := range slices.Concat(b.Steps, b.After) {
		for _, h := range []string{st.Hook, st.Check.Hook} {
			if h == "" {
				continue
			}
			conf, has := s.Conf.Hooks[h]
			if !has {
				add(needsHook, h, false, "", "The hook %s is not in site.yaml: add it under hooks.", h)
			} else if _, err := exec.LookPath(conf.Run[0]); err != nil {
				add(needsHook, h, false, "", "The program of the hook %s cannot be run: %s.", h, err)
			} else {
				add(needsHook, h, true, "", "The hook %s is in site.yaml.", h)
			}
		}
	}
	groups := map[string][]int{}
	o := &act{s: s, book: b}
	for i, v := range vols {
		o.doc.Volumes = append(o.doc.Volumes, actVolume{Name: v.Name, Group: v.group})
		if v.group != "" {
			groups[v.group] = append(groups[v.group], i)
		}
	}
	for _, g := range sortedKeys(groups) {
		if err := o.chooseSet(g, groups[g]); err != nil {
			add(needsSet, g, false, "", "%s.", phrase.UpperFirst(err.Error()))
		} else {
			add(needsSet, g, true, "", "The newest whole set of %s is of %s.", g,
				phrase.Stamp(o.doc.Volumes[groups[g][0]].Taken))
		}
	}
	if err := s.wayBack(vols, add); err != nil {
		return nil, err
	}
	if err := s.witnessReady(b, add); err != nil {
		return nil, err
	}
	if err := s.lastDrill(b.Name, add); err != nil {
		return nil, err
	}
	out.Sentence = readySentence(out)
	return out, nil
}

func readySentence(r *api.Readiness) string {
	if r.Ready {
		return "It would work now."
	}
	var no []string
	for _, c := range r.Checks {
		if !c.OK {
			no = append(no, strings.TrimSuffix(c.Text, "."))
		}
	}
	return strings.Join(no, ". ") + "."
}

type adder func(code, about string, ok bool, command, text string, args ...any)

func (s *Service) volumeReady(b *runbook.Runbook, v *bookVolume, add adder) error {
	line := s.authority.Line(v.Volume)
	active, _ := s.authority.Active(v.Volume)
	switch {
	case active == s.Name():
		add(needsAuthority, v.Name, true, "", "%s is active here already.", v.Name)
	case active == authority.Nobody:
		add(needsKnown, v.Name, false, "candid authority show "+v.Name, "It is not known who is active of %s.", v.Name)
	case v.Part != "":
		add(needsAuthority, v.Name, false, "", "%s is a part of a volume, which cannot be taken over.", v.Name)
	case len(line) == 0 || !line[len(line)-1].May(s.Name()):
		add(needsAuthority, v.Name, false, fmt.Sprintf("candid --desk %s site grant %s take-over", active, s.Name()),
			"%s has not granted %s that it may take %s over.", active, s.Name(), v.Name)
	default:
		add(needsAuthority, v.Name, true, "", "%s may take %s over from %s.", s.Name(), v.Name, active)
	}
	row, err := s.Catalog.LastSnapshot(s.Place(), v.Lineage)
	if err != nil {
		return err
	}
	if row == nil {
		add(needsState, v.Name, false, "", "Nothing of %s has arrived here.", v.Name)
		return nil
	}
	id, err := object.ParseID(row.ID)
	if err != nil {
		return err
	}
	root, _, err := s.Store.Root(id)
	whole := err == nil
	if whole {
		whole, err = s.Store.IsWhole(root.Tree())
	}
	if !whole {
		s.Log.Debug("the newest state of a volume is not whole", "volume", v.Name, "error", err)
		add(needsState, v.Name, false, "candid store verify", "The newest state of %s is damaged here.", v.Name)
		return nil
	}
	known, _, err := s.ownTime(row)
	if err != nil {
		return err
	}
	age := s.Clock.Now().Sub(known)
	if b.Loss > 0 && age > b.Loss && active != s.Name() {
		add(needsFresh, v.Name, false, "candid route list", "The newest state of %s is %s old; at most %s are to be lost.",
			v.Name, phrase.Ago(age), phrase.Ago(b.Loss))
	} else {
		add(needsFresh, v.Name, true, "", "The newest state of %s is %s old.", v.Name, phrase.Ago(max(age, 0)))
	}
	switch {
	case active == s.Name():
		return nil
	case v.IsDisk():
		return s.diskReady(v, add)
	}
	return s.treeReady(v, row, add)
}

// witnessReady finds whether the witness of a runbook would answer.
func (s *Service) witnessReady(b *runbook.Runbook, add adder) error {
	if b.Witness == "" {
		return nil
	}
	p, err := s.Catalog.Peer(b.Witness)
	switch {
	case errors.Is(err, catalog.ErrNone):
		add(needsWitness, b.Witness, false, "", "%s, which is to witness it, is not paired with this site.", b.Witness)
	case err != nil:
		return err
	case s.pairing.Up(p.Name) || s.Clock.Now().Sub(p.Seen.Time) < aloneSoon:
		add(needsWitness, b.Witness, true, "", "%s would witness it.", b.Witness)
	default:
		add(needsWitness, b.Witness, false, "candid site check "+b.Witness,
			"%s, which is to witness it, was last heard of %s.", b.Witness, phrase.Stamp(p.Seen.Time))
	}
	return nil
}

// diskReady tells who may open a disk once it is served here.
func (s *Service) diskReady(v *bookVolume, add adder) error {
	if s.Conf.DiskListen == "" {
		add(needsHost, v.Name, true, "", "Clients of %s open it on this site's host, as disk_listen is not set.", v.Name)
		return nil
	}
	hosts, err := s.Catalog.DiskHosts()
	if err != nil {
		return err
	}
	now := s.Clock.Now()
	var may, over []string
	for _, h := range hosts {
		if !slices.Contains(h.Disks.V, v.Name) {
			continue
		}
		if may = append(may, h.Name); h.Until.Before(now) {
			over = append(over, h.Name)
		}
	}
	switch {
	case len(may) == 0:
		add(needsHost, v.Name, false, fmt.Sprintf("candid disk access HOST --disk %s --to DIR", v.Name),
			"No host has a certificate with which it may open %s here.", v.Name)
	case len(over) == len(may):
		add(needsHost, v.Name, false, fmt.Sprintf("candid disk access %s --renew --to DIR", over[0]),
			"The certificate with which %s may open %s here has ended.", words(over), v.Name)
	default:
		add(needsHost, v.Name, true, "", "%s may open %s here.", phrase.UpperFirst(words(may)), v.Name)
	}
	return nil
}

// treeReady finds whether a directory has a place to lie, and room there.
func (s *Service) treeReady(v *bookVolume, row *catalog.Snapshot, add adder) error {
	lived, err := s.livedHere(v.Volume)
	if err != nil {
		return err
	}
	path := v.path
	if lived && (path == "" || path == v.Path) {
		add(needsPlace, v.Name, true, "", "%s lies in %s, where it was before; what differs is brought there.",
			v.Name, v.Path)
		return nil
	}
	if path == "" {
		path = v.StandbyDir
	}
	if path == "" {
		add(needsPlace, v.Name, false, "candid volume standby "+v.Name+" exact",
			"It is not known where %s is to lie: give it under paths, or lay it out.", v.Name)
		return nil
	}
	laid := v.Standby == "exact" && v.StandbyDir != "" && v.StandbyError == ""
	if path != v.StandbyDir {
		target, root, err := s.UnderRoot(path, false)
		if err != nil {
			add(needsPlace, v.Name, false, "", "%s cannot lie in %s: %s.", v.Name, path, err)
			return nil
		}
		if err := s.isEmpty(root, target); err != nil {
			add(needsPlace, v.Name, false, "", "%s.", phrase.UpperFirst(err.Error()))
			return nil
		}
		if laid && !s.sameFilesystem(v.StandbyDir, target) {
			laid = false
			add(needsPlace, v.Name, true, "", "%s is laid out on another filesystem than %s: it would be restored there.",
				v.Name, path)
		}
	}
	if laid {
		add(needsPlace, v.Name, true, "", "%s is laid out and would be in %s by one rename.", v.Name, path)
		return nil
	}
	if free := s.roomAt(path); free > 0 && free < row.Bytes {
		add(needsRoom, v.Name, false, "", "%s needs %s in %s, and %s are free.", v.Name, phrase.Size(row.Bytes), path,
			phrase.Size(free))
		return nil
	}
	add(needsPlace, v.Name, true, "", "%s would be restored to %s, %s.", v.Name, path, phrase.Size(row.Bytes))
	return nil
}

// wayBack finds whether what is done here could go to the other site.
func (s *Service) wayBack(vols []bookVolume, add adder) error {
	sites := map[string]bool{}
	for _, v := range vols {
		sites[v.Active], sites[v.Origin] = true, true
	}
	delete(sites, s.Name())
	delete(sites, authority.Nobody)
	for _, site := range sortedKeys(sites) {
		p, err := s.Catalog.Peer(site)
		if errors.Is(err, catalog.ErrNone) {
			add(needsBack, site, false, "", "%s is not paired with this site.", site)
			continue
		} else if err != nil {
			return err
		}
		if !p.Granted.V.Offer {
			add(needsBack, site, false, fmt.Sprintf("candid --desk %s site grant %s offer", site, s.Name()),
				"%s does not let %s bring snapshots, so what is done here would not come home.", site, s.Name())
		} else {
			add(needsBack, site, true, "", "What is done here would be carried to %s.", site)
		}
	}
	return nil
}
