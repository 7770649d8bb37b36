package demo

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/client"
	"candidharbor/internal/service"
)

// fieldStation is how Stonewick takes over.
const fieldStation = `runbook: field-station
at: stonewick
bring_up:
  - accession-register
  - {hook: open-register}
  - {check: {file: DIR/accession-register/accessions.sqlite}}
  - {pause: {say: "Ask the registrar to sign in", person: operator}}
  - [field-notebooks, herbarium-scans, specimen-db]
paths:
  accession-register: DIR/accession-register
  field-notebooks: DIR/field-notebooks
  herbarium-scans: DIR/herbarium-scans
objectives: {loss: 8 hours, time: 30 minutes}
drill: {when: monthly on first monday at 05:00, zone: Europe/Lisbon, keep: none}
`

// openRegister is a hook of Stonewick: nobody is let into a register that is no database.
const openRegister = `#!/bin/sh
# See that the register is a database before anybody is let in.
echo "$CANDID_PATHS" | while read -r p; do
  test ! -e "$p/accessions.sqlite" || head -c 15 "$p/accessions.sqlite"
done | grep -q "SQLite format 3"
`

func (s *story) stationDir() string { return filepath.Join(s.opt.Data, "field-station") }

// station prepares Stonewick for the day on which it takes over, and rehearses that.
func (s *story) station() error {
	_, err := s.larkfield.Site.Pairing.Grant(s.ctx, "stonewick", api.GrantAsk{Grants: []string{"take-over"}})
	if err := s.step("Larkfield lets Stonewick take its volumes over.", "", err); err != nil {
		return err
	}
	if _, err := s.stonewick.Site.Pairing.CheckPeer(s.ctx, "larkfield"); err != nil {
		return err
	}
	if err := s.runbook(strings.ReplaceAll(fieldStation, "DIR", s.stationDir())); err != nil {
		return err
	}
	return s.drill()
}

func (s *story) runbook(body string) error {
	b, err := s.stonewick.Site.Failover.PutRunbook(body, "the demo")
	out := ""
	if err == nil {
		out = fmt.Sprintf("version %d, %d steps. %s", b.Version, len(b.Steps), b.Readiness.Sentence)
	}
	if err := s.step("Stonewick stores the runbook field-station.", out, err); err != nil {
		return err
	}
	return s.check(b.Readiness.Ready, "the runbook is ready: "+b.Readiness.Sentence)
}

// asSet brings up what became one group as one set.
func (s *story) asSet() error {
	b, err := s.stonewick.Site.Failover.Runbook("field-station")
	if err != nil {
		return err
	}
	body := strings.Replace(b.Body, "  - accession-register\n", "  - {group: accessions}\n", 1)
	return s.runbook(strings.Replace(body, "[field-notebooks, herbarium-scans, specimen-db]",
		"[herbarium-scans, specimen-db]", 1))
}

// drill rehearses by hand, and looks that nothing has changed.
func (s *story) drill() error {
	live := s.files.path("field-notebooks")
	before, err := sum(live)
	if err != nil {
		return err
	}
	f, err := s.begins(s.stonewick, "drill", api.DrillAsk{})
	if err == nil {
		f, err = s.goesThrough(func() (*api.Failover, error) { return s.stonewick.Site.Failover.Drill(f.ID) })
	}
	out := ""
	if err == nil {
		out = f.Sentence
	}
	if err := s.step("Marta rehearses it: all comes up as clones, and goes again.", out, err); err != nil {
		return err
	}
	after, err := sum(live)
	if err != nil {
		return err
	}
	clones, err := s.stonewick.Site.Clones.Clones()
	if err != nil {
		return err
	}
	_, err = os.Stat(filepath.Join(s.stonewick.Site.Path, "drills"))
	return s.check(f.Drill.Good && before == after && len(clones) == 0 && errors.Is(err, os.ErrNotExist),
		fmt.Sprintf("the drill went well and left nothing: %s, %d clones, %v", f.Sentence, len(clones), err))
}

// begins has an act begin by a runbook, as a person does: it is in the ledger.
func (s *story) begins(at *service.Service, act string, ask any) (*api.Failover, error) {
	desk, err := client.New(at.Socket, "")
	if err != nil {
		return nil, err
	}
	f := &api.Failover{}
	return f, desk.Post(s.ctx, "/runbooks/field-station/"+act, ask, f)
}

// goesThrough waits for the end of a failover or a drill, and answers what it asks a person.
func (s *story) goesThrough(show func() (*api.Failover, error)) (*api.Failover, error) {
	for {
		f, err := show()
		if err != nil {
			return nil, err
		}
		switch f.State {
		case api.FailoverDone:
			return f, nil
		case api.FailoverWaiting:
			// It may have been answered while it was looked at.
			_, _ = s.stonewick.Site.Failover.Answer(f.Runbook, "operator", "marta")
		case api.FailoverRunning:
		default:
			return nil, fmt.Errorf("it is %s: %s", f.State, f.Sentence)
		}
		select {
		case <-time.After(20 * time.Millisecond):
		case <-s.ctx.Done():
			return nil, s.ctx.Err()
		}
	}
}

// drillsHeld looks what the months of the story came to.
func (s *story) drillsHeld() error {
	all, err := s.stonewick.Site.Failover.Drills()
	if err != nil {
		return err
	}
	good := 0
	for _, f := range all {
		if f.Drill.Good && f.Drill.WithinTime {
			good++
		}
	}
	cadence := slices.ContainsFunc(all, func(f api.Failover) bool { return f.Drill.Cadence })
	if err := s.step("What drills at Stonewick came to:", fmt.Sprintf("%d of %d went well", good, len(all)),
		nil); err != nil {
		return err
	}
	if err := s.check(good == len(all) && (cadence || s.opt.Days < 70), "all drills went well, and one was held by its "+
		"cadence"); err != nil {
		return err
	}
	r, err := s.stonewick.Site.Overview.Objectives(s.ctx, s.begin)
	if err != nil {
		return err
	}
	return s.check(len(r.Drills) == 4, fmt.Sprintf("the report of objectives tells of drills for %d volumes",
		len(r.Drills)))
}
