package demo

import (
	"bytes"
	"database/sql"
	"encoding/csv"
	"image/png"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// What the survey writes are real files of their kinds: pictures that decode, tables
// that parse, documents whose tables of contents point right, a database that is sound.
func TestSurveyFilesAreReal(t *testing.T) {
	s := &survey{dir: t.TempDir(), rng: rand.New(rand.NewPCG(1, 2))}
	at := time.Date(2026, 1, 5, 8, 0, 0, 0, time.UTC)
	require.NoError(t, s.begin(at))
	rows := registerRows(t, s)
	kinds, sizes := map[string]int{}, map[string]int64{}
	for day := range 30 {
		before := listing(t, s.dir)
		require.NoError(t, s.work(at.AddDate(0, 0, day)))
		changed := 0
		for p, info := range listing(t, s.dir) {
			if old, ok := before[p]; !ok || old.Size() != info.Size() || !old.ModTime().Equal(info.ModTime()) {
				changed++
			}
		}
		require.Positive(t, changed, "every day changes something")
		require.Less(t, changed, 12, "and never everything")
	}
	require.Greater(t, registerRows(t, s), rows)
	for p, info := range listing(t, s.dir) {
		require.False(t, info.ModTime().After(at.AddDate(0, 0, 30)), "%s is from the future", p)
		raw, err := os.ReadFile(filepath.Join(s.dir, p))
		require.NoError(t, err)
		ext := filepath.Ext(p)
		kinds[ext]++
		sizes[ext] += info.Size()
		switch ext {
		case ".png":
			img, err := png.Decode(bytes.NewReader(raw))
			require.NoError(t, err, p)
			require.Positive(t, img.Bounds().Dx())
		case ".csv":
			records, err := csv.NewReader(bytes.NewReader(raw)).ReadAll()
			require.NoError(t, err, p)
			require.Greater(t, len(records), 1, p)
		case ".pdf":
			pdf(t, p, raw)
		case ".txt":
			require.NotContains(t, string(raw), "%!", p)
			require.Greater(t, len(raw), 100, p)
		}
	}
	for _, ext := range []string{".png", ".csv", ".pdf", ".txt", ".sqlite"} {
		require.Positive(t, kinds[ext], ext)
		require.Positive(t, sizes[ext], ext)
	}
	tops, err := os.ReadDir(s.dir)
	require.NoError(t, err)
	require.Len(t, tops, 5, "one directory for each volume")
}

// The same seed tells the same story, so that pictures and texts agree from run to run.
func TestSurveyIsTheSameAgain(t *testing.T) {
	var seen [2]map[string]int64
	for i := range seen {
		s := &survey{dir: t.TempDir(), rng: rand.New(rand.NewPCG(3, 4))}
		at := time.Date(2026, 1, 5, 8, 0, 0, 0, time.UTC)
		require.NoError(t, s.begin(at))
		for day := range 8 {
			require.NoError(t, s.work(at.AddDate(0, 0, day)))
		}
		seen[i] = map[string]int64{}
		for p, info := range listing(t, s.dir) {
			seen[i][p] = info.Size()
		}
	}
	require.Equal(t, seen[0], seen[1])
}

func listing(t *testing.T, dir string) map[string]fs.FileInfo {
	out := map[string]fs.FileInfo{}
	require.NoError(t, filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		rel, _ := filepath.Rel(dir, p)
		out[rel], err = d.Info()
		return err
	}))
	return out
}

func registerRows(t *testing.T, s *survey) (n int) {
	files, err := filepath.Glob(s.path("accession-register", "*.sqlite"))
	require.NoError(t, err)
	require.Len(t, files, 1)
	db, err := sql.Open("sqlite", files[0])
	require.NoError(t, err)
	defer db.Close()
	var ok, table string
	require.NoError(t, db.QueryRow("PRAGMA integrity_check").Scan(&ok))
	require.Equal(t, "ok", ok)
	require.NoError(t, db.QueryRow("SELECT name FROM sqlite_master WHERE type='table' LIMIT 1").Scan(&table))
	require.NoError(t, db.QueryRow("SELECT COUNT(*) FROM "+table).Scan(&n))
	return n
}

// pdf checks the cross-reference table of a document (ISO 32000-1 §7.5.4).
func pdf(t *testing.T, name string, raw []byte) {
	require.True(t, bytes.HasPrefix(raw, []byte("%PDF-1.")), name)
	m := regexp.MustCompile(`startxref\n(\d+)\n%%EOF\s*$`).FindSubmatch(raw)
	require.NotNil(t, m, name)
	at, err := strconv.Atoi(string(m[1]))
	require.NoError(t, err)
	require.True(t, bytes.HasPrefix(raw[at:], []byte("xref\n")), name)
	for i, e := range regexp.MustCompile(`(?m)^(\d{10}) 00000 n`).FindAllSubmatch(raw[at:], -1) {
		offset, err := strconv.Atoi(string(e[1]))
		require.NoError(t, err)
		require.True(t, bytes.HasPrefix(raw[offset:], []byte(strconv.Itoa(i+1)+" 0 obj")), "%s: object %d", name, i+1)
	}
}
