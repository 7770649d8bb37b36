package demo

import (
	"os"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/recovery"
)

// accident deletes a folder and brings it back as of the evening before.
func (s *story) accident() error {
	year := s.clock.Now().Format("2006")
	folder := s.files.path("field-notebooks", year, "transect-7")
	if _, err := os.Stat(folder); err != nil {
		if err := s.files.note(s.clock.Now(), 7); err != nil {
			return err
		}
	}
	if err := s.advance(s.clock.Now().Add(16 * time.Hour)); err != nil {
		return err
	}
	before, err := sum(folder)
	if err != nil {
		return err
	}
	evening := s.clock.Now()
	if err := s.advance(evening.Add(5 * time.Minute)); err != nil {
		return err
	}
	if err := os.RemoveAll(folder); err != nil {
		return err
	}
	if err := s.step("A folder of field notes, transect-7, is deleted by mistake.", "", nil); err != nil {
		return err
	}
	if err := s.advance(evening.Add(13 * time.Hour)); err != nil {
		return err
	}
	site := s.larkfield.Site
	missed, err := site.Recovery.Compare(s.ctx, recovery.CompareAsk{Volume: "field-notebooks",
		From: evening.Format(time.RFC3339), To: "now"})
	if err != nil {
		return err
	}
	if err := s.step("The next day something is missed. What differs between that evening and now:", missed.Summary,
		nil); err != nil {
		return err
	}
	if err := s.check(missed.Counts.Removed > 1, "the comparison tells of what is gone"); err != nil {
		return err
	}
	found, err := site.Recovery.Find(s.ctx, "field-notebooks", api.FindAsk{Pattern: "transect-7", Kind: "directory",
		Deleted: true})
	if err != nil {
		return err
	}
	if err := s.check(len(found.Items) == 1 && !found.Items[0].LastSeen.Before(evening.Add(-24*time.Hour)),
		"the deleted folder is found in the snapshots of the day before"); err != nil {
		return err
	}
	// The first try takes the wrong thing: undo leads back to where it began.
	page, err := site.Recovery.Snapshots("field-notebooks", catalog.SnapshotFilter{From: evening.Add(-14 * 24 * time.Hour),
		Limit: 1000})
	if err != nil {
		return err
	}
	long := page.Items[len(page.Items)-1].ID
	run, err := site.Recovery.Restore(s.ctx, api.RestoreAsk{Volume: "field-notebooks", Paths: []string{year}, At: long,
		InPlace: true, OnConflict: "replace"}, "the demo")
	out, err := s.run(s.larkfield)(run, err)
	if err := s.step("In haste the whole year is brought back as it was long before: that was wrong.", out,
		err); err != nil {
		return err
	}
	out, err = s.run(s.larkfield)(site.Recovery.Undo(run.ID, "the demo"))
	if err := s.step("Undo takes it back.", out, err); err != nil {
		return err
	}
	same, err := site.Recovery.Compare(s.ctx, recovery.CompareAsk{Volume: "field-notebooks",
		From: evening.Format(time.RFC3339), To: "now"})
	if err != nil {
		return err
	}
	if err := s.check(same.Counts == missed.Counts,
		"after the undo everything is as it was before the wrong restore"); err != nil {
		return err
	}
	out, err = s.run(s.larkfield)(site.Recovery.Restore(s.ctx, api.RestoreAsk{Volume: "field-notebooks",
		Paths: []string{found.Items[0].Path}, At: found.Items[0].Snapshot, InPlace: true, OnConflict: "skip"}, "the demo"))
	if err := s.step("The folder that find showed is brought back as it was last seen.", out, err); err != nil {
		return err
	}
	after, err := sum(folder)
	if err != nil {
		return err
	}
	return s.check(before == after, "the folder is the one that was deleted")
}
