package demo

import (
	"fmt"
	"os"
	"path/filepath"

	"candidharbor/api"
	"candidharbor/internal/datadir"
)

// The hooks of the demo. A real one would tell the register's program to finish what it
// writes and to wait; these make sure that what it wrote is on the disk.
const (
	holdRegister = "#!/bin/sh\n# Finish what is being written to the register.\nexec sync -f \"$(echo " +
		"\"$CANDID_PATHS\" | head -n 1)\"\n"
	freeRegister = "#!/bin/sh\n# Let the register go on.\necho \"$CANDID_GROUP goes on\"\n"
)

func (s *story) hookPath(name string) string { return filepath.Join(s.opt.Data, "hooks", name) }

func (s *story) writeHooks() error {
	if err := os.MkdirAll(filepath.Dir(s.hookPath("x")), 0o755); err != nil {
		return err
	}
	for name, body := range map[string]string{"hold-register": holdRegister, "free-register": freeRegister,
		"open-register": openRegister} {
		if err := os.WriteFile(s.hookPath(name), []byte(body), 0o755); err != nil {
			return err
		}
	}
	return nil
}

// hooks is what site.yaml of both sites says besides.
func (s *story) hooks(c *datadir.Config) {
	c.Ballast = "256 MiB"
	switch c.Name {
	case "stonewick":
		c.Standby = filepath.Join(s.opt.Data, "standby")
		c.Hooks = map[string]datadir.Hook{"open-register": {Run: []string{s.hookPath("open-register")}}}
	case "mereside":
		c.Floor, c.Effort = "14 days", "thorough"
	}
	if c.Name != "larkfield" {
		return
	}
	c.LeftBehind = "60 days"
	c.Alarms = &datadir.Alarms{Webhook: &datadir.Webhook{URL: s.inbox.Hook}, Console: "http://" + s.opt.Listen,
		Mail: &datadir.Mail{Server: s.inbox.Mail, From: "harbor@larkfield.example",
			To: []string{"night-desk@larkfield.example"}, Security: "none"}}
	c.Hooks = map[string]datadir.Hook{
		"hold-register": {Run: []string{s.hookPath("hold-register")}, Timeout: "20 seconds"},
		"free-register": {Run: []string{s.hookPath("free-register")}, Timeout: "20 seconds"},
	}
}

// groupDay is the day on which the register and the notebooks become one group.
func (s *story) groupDay() int { return max(s.opt.Days*3/5, s.opt.Days/2+3) }

// together makes a group of the register and the notebooks that it speaks of.
func (s *story) together() error {
	_, err := s.larkfield.Site.Capture.PutGroup("accessions", api.GroupPut{Volumes: []string{"accession-register",
		"field-notebooks"}, Freeze: "hold-register", Thaw: "free-register"})
	if err := s.step("The register and the notebooks it speaks of become one group.", "", err); err != nil {
		return err
	}
	out, err := s.run(s.larkfield)(s.larkfield.Site.Capture.TakeSnapshot("accession-register",
		api.SnapshotTake{Note: "the first set"}, "the demo"))
	return s.step("A first set of them is taken.", out, err)
}

// bound caps what the telemetry may become.
func (s *story) bound() error {
	c, err := s.larkfield.Site.Rules.PutCap(api.CapPut{Scope: "volume", Name: "greenhouse-telemetry", Snapshots: 12,
		Reached: "oldest goes"})
	if err != nil {
		return s.step("The telemetry is capped.", "", err)
	}
	if err := s.step("The telemetry is capped.", c.Sentence, nil); err != nil {
		return err
	}
	_, err = s.stonewick.Site.Rules.PutCap(api.CapPut{Scope: "peer", Name: "larkfield", Bytes: 8 << 30})
	return s.step("Stonewick bounds what Larkfield may fill there.", "", err)
}

// setsAreWhole checks that of the newest set all is there at both sites.
func (s *story) setsAreWhole() error {
	g, err := s.larkfield.Site.Capture.Group("accessions")
	if err != nil {
		return err
	}
	if err := s.check(len(g.Newest) == 2 && g.Newest[0].Consistency == "quiesced",
		fmt.Sprintf("the newest set is whole and quiesced: %+v", g.Newest)); err != nil {
		return err
	}
	for _, m := range g.Newest {
		snap, err := s.stonewick.Site.Recovery.Snapshot(m.ID)
		if err != nil {
			return err
		}
		if err := s.check(snap.Group == "accessions" && snap.State == "kept", "the set's "+m.Volume+
			" is at Stonewick"); err != nil {
			return err
		}
	}
	return nil
}
