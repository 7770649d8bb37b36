package upkeep

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/datadir"
	"candidharbor/internal/phrase"
	"candidharbor/internal/records"
	"candidharbor/internal/run"
	"candidharbor/internal/store"
)

// generationSetting counts starts and orderly stops of the service. The count also stands in
// a file beside the catalogue, so that an older catalogue that was put back is noticed.
const generationSetting = "generation"

func (s *Service) generationPath() string { return filepath.Join(s.Path, "generation") }

// catalogueIsOlder counts a start, and says why the catalogue must be older than the last
// that was in use here; empty when nothing shows that it is.
func (s *Service) catalogueIsOlder() (why string, err error) {
	text, err := s.Catalog.Setting(generationSetting)
	if err != nil {
		return "", err
	}
	in, _ := strconv.ParseUint(text, 10, 64)
	var beside uint64
	raw, err := os.ReadFile(s.generationPath())
	if err == nil {
		beside, _ = strconv.ParseUint(strings.TrimSpace(string(raw)), 10, 64)
	} else if !errors.Is(err, os.ErrNotExist) {
		return "", err
	}
	if in < beside && text != "" {
		why = fmt.Sprintf("the catalogue is older than the one that was in use here last (it counts %d starts and stops, "+
			"and there were %d)", in, beside)
	}
	return why, s.countGeneration(max(in, beside) + 1)
}

func (s *Service) countGeneration(n uint64) error {
	if err := s.Catalog.Set(generationSetting, strconv.FormatUint(n, 10)); err != nil {
		return err
	}
	s.generation = n
	return store.ReplaceFile(s.generationPath(), []byte(strconv.FormatUint(n, 10)+"\n"))
}

// CompareMarks brings the catalogue's rows in line with the marks in the store, which decide.
// Nothing is removed before it has come to its end.
func (s *Service) CompareMarks(ctx context.Context) error {
	after, differ := "", 0
	for {
		rows, err := s.Catalog.SnapshotPage(s.Place(), after, 500)
		if err != nil {
			return err
		}
		for _, row := range rows {
			after = row.ID
			if err := ctx.Err(); err != nil {
				return err
			}
			if s.marksAgree(row) {
				continue
			}
			tells, err := s.takeMarksUp(ctx, row.ID)
			if err != nil {
				return err
			}
			if tells {
				differ++
			}
		}
		if len(rows) < 500 {
			break
		}
	}
	if differ == 0 {
		return nil
	}
	s.Log.Info("marks that the catalogue did not know were taken up from the store", "snapshots", differ)
	s.run.Changed("snapshots")
	if differ == 1 { // what a crash leaves between a mark and its row
		return nil
	}
	return s.rules.Suspend(fmt.Sprintf("the store has marks of %s that the catalogue did not know; it is probably an "+
		"older copy. Look at your policies, then release removal with: candid store release",
		phrase.Many(differ, "snapshot")))
}

func (s *Service) marksAgree(row *catalog.Snapshot) bool {
	m, err := s.records.MarkedAs(row)
	if err != nil {
		s.Log.Error("the marks of a snapshot could not be read", "snapshot", row.ID, "error", err)
		return true
	}
	return records.SameMarks(row, m)
}

// takeMarksUp brings one row in line. It reports whether the difference tells of an older
// catalogue: a crash during a pruning leaves many marks that say no more than that the rules
// sent their snapshots into grace or took them back.
func (s *Service) takeMarksUp(ctx context.Context, id string) (tells bool, err error) {
	release, err := s.run.Hold(ctx, run.KeyPrune.Of("")) // so that no mark is being put
	if err != nil {
		return false, err
	}
	defer release()
	row, err := s.Catalog.Snapshot(id)
	if errors.Is(err, catalog.ErrNone) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	m, err := s.records.MarkedAs(row)
	if err != nil || records.SameMarks(row, m) {
		return false, err
	}
	if row.KeepWhy != "" && m.KeepWhy == "" && !s.letGo(m.ID) { // the mark was lost, and the row still says it
		return false, s.routes.MarksFromRow(row)
	}
	pruned := *row
	pruned.GraceUntil, pruned.LetGo, pruned.LetGoCause = m.GraceUntil, m.LetGo, m.LetGoCause
	if !row.GraceUntil.IsZero() {
		pruned.RecalledUntil = catalog.Time{}
	}
	moved := row.GraceUntil.IsZero() != m.GraceUntil.IsZero()
	return !moved || !records.SameMarks(&pruned, m), s.Catalog.SetMarks(m)
}

// letGo reports whether a mark says that a keep mark was taken back.
func (s *Service) letGo(id string) bool {
	parsed, err := object.ParseID(id)
	if err != nil {
		return false
	}
	marks, _, err := s.Store.Marks(parsed)
	return err == nil && slices.ContainsFunc(marks, func(m *object.Mark) bool { return m.Kind == object.MarkLetGo })
}

const copiesKept = 14

// CopyCatalogue writes a copy of the catalogue beside it, as it is at this moment, and keeps
// the newest ones.
func (s *Service) CopyCatalogue(ctx context.Context) (*api.CatalogueCopy, error) {
	release, err := s.run.Hold(ctx, run.KeyCopy.Of(""))
	if err != nil {
		return nil, err
	}
	defer release()
	if err := s.Catalog.Check(ctx); err != nil {
		return nil, fmt.Errorf("the catalogue is not copied, because %w", err)
	}
	dir := filepath.Join(s.Path, datadir.CopiesDir)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	name := "catalog-" + s.Clock.Now().UTC().Format("20060102-150405.000") + ".db"
	path := filepath.Join(dir, name)
	if err := s.Catalog.CopyTo(ctx, path); err != nil {
		os.Remove(path)
		return nil, err
	}
	all, err := s.CatalogueCopies()
	if err != nil {
		return nil, err
	}
	for i, c := range all {
		if i >= copiesKept {
			os.Remove(c.Path)
		}
	}
	return &all[0], nil
}

// CatalogueCopies lists the copies of the catalogue, newest first.
func (s *Service) CatalogueCopies() ([]api.CatalogueCopy, error) {
	names, err := filepath.Glob(filepath.Join(s.Path, datadir.CopiesDir, "catalog-*.db"))
	if err != nil {
		return nil, err
	}
	slices.Sort(names)
	slices.Reverse(names)
	out := []api.CatalogueCopy{}
	for _, path := range names {
		st, err := os.Stat(path)
		if err != nil {
			continue
		}
		made, err := time.Parse("catalog-20060102-150405.000.db", filepath.Base(path))
		if err != nil {
			continue
		}
		out = append(out, api.CatalogueCopy{Path: path, Made: made, Bytes: st.Size()})
	}
	return out, nil
}

// CountStop counts an orderly stop.
func (s *Service) CountStop() error {
	if s.Catalog == nil || s.generation == 0 {
		return nil
	}
	return s.countGeneration(s.generation + 1)
}
