package demo

import (
	"bytes"
	"database/sql"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"time"

	_ "modernc.org/sqlite" // the accession register is a real database file
)

// survey makes and changes the files of the Larkfield Botanical Survey.
type survey struct {
	dir string
	rng *rand.Rand
	day int
}

var (
	genera = []string{"Quercus", "Erica", "Cistus", "Lavandula", "Orchis", "Salix", "Carex", "Festuca", "Armeria",
		"Thymus", "Ulex", "Genista"}
	epithet = []string{"lusitanica", "montana", "palustris", "litoralis", "rotundifolia", "nana", "vulgaris", "silvestris",
		"minor", "glauca"}
	places = []string{"north ridge", "mill pond", "lower meadow", "old quarry", "estuary path", "cork grove",
		"south terrace"}
	weather = []string{"light rain", "clear and windy", "fog until ten", "overcast", "hot and still", "showers"}
)

func pick[T any](r *rand.Rand, list []T) T { return list[r.IntN(len(list))] }

func (s *survey) species() string { return pick(s.rng, genera) + " " + pick(s.rng, epithet) }

func (s *survey) path(parts ...string) string {
	return filepath.Join(append([]string{s.dir}, parts...)...)
}

func (s *survey) write(at time.Time, data []byte, parts ...string) error {
	p := s.path(parts...)
	if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(p, data, 0o644); err != nil {
		return err
	}
	return errors.Join(os.Chtimes(p, at, at), owned(p))
}

// begin makes what was there before the story.
func (s *survey) begin(at time.Time) error {
	for i := range 60 {
		y := 1921 + i%40
		if err := s.sheet(at, y, i); err != nil {
			return err
		}
	}
	for t := 1; t <= 8; t++ {
		for i := range 5 {
			if err := s.note(at.AddDate(0, 0, -i), t); err != nil {
				return err
			}
		}
	}
	for i := range 12 {
		name := fmt.Sprintf("application-%02d.pdf", i+1)
		if err := s.write(at, s.pdf(fmt.Sprintf("Application %d for the %s survey", i+1, pick(s.rng, places))),
			"grant-office", "applications", name); err != nil {
			return err
		}
	}
	if err := s.write(at, []byte("budget,2025,2026\nfield work,18200,21400\nglasshouse,9600,9900\ntravel,3100,2800\n"),
		"grant-office", "budget.csv"); err != nil {
		return err
	}
	return s.register(at, 40)
}

// work is one day of the survey.
func (s *survey) work(at time.Time) error {
	s.day++
	weekday := at.Weekday() != time.Saturday && at.Weekday() != time.Sunday
	if err := s.telemetry(at); err != nil {
		return err
	}
	if !weekday {
		return nil
	}
	if err := s.note(at, 1+s.rng.IntN(8)); err != nil {
		return err
	}
	if s.day%3 == 0 {
		if err := s.sheet(at, 1921+s.rng.IntN(60), 60+s.day); err != nil {
			return err
		}
	}
	if s.day%10 == 4 {
		name := fmt.Sprintf("report-%s.pdf", at.Format("2006-01"))
		if err := s.write(at, s.pdf("Report for "+at.Format("January 2006")), "grant-office", "reports", name); err != nil {
			return err
		}
	}
	return s.register(at, 1+s.rng.IntN(4))
}

// note appends a walk to a transect's notebook.
func (s *survey) note(at time.Time, transect int) error {
	var b strings.Builder
	fmt.Fprintf(&b, "%s, transect %d, %s, %s\n\n", at.Format("Monday 2 January 2006"), transect, pick(s.rng, places),
		pick(s.rng, weather))
	for range 6 + s.rng.IntN(14) {
		fmt.Fprintf(&b, "%02d:%02d  %-26s %3d plants, %s\n", 8+s.rng.IntN(8), s.rng.IntN(60), s.species(), 1+s.rng.IntN(120),
			pick(s.rng, []string{"in flower", "in fruit", "vegetative", "grazed", "seedlings"}))
	}
	return s.write(at, []byte(b.String()), "field-notebooks", at.Format("2006"), fmt.Sprintf("transect-%d", transect),
		at.Format("01-02")+".txt")
}

// sheet draws a small picture of a pressed plant.
func (s *survey) sheet(at time.Time, year, n int) error {
	const w, h = 160, 220
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	paper := color.RGBA{uint8(232 + s.rng.IntN(12)), uint8(224 + s.rng.IntN(12)), 206, 255}
	for y := range h {
		for x := range w {
			g := uint8(s.rng.IntN(5))
			img.Set(x, y, color.RGBA{paper.R - g, paper.G - g, paper.B - g, 255})
		}
	}
	leaf := color.RGBA{uint8(50 + s.rng.IntN(50)), uint8(80 + s.rng.IntN(60)), 50, 255}
	for b := range 7 {
		bend := (s.rng.Float64() - 0.5) * 2
		for t := range 60 {
			x := 80 + bend*float64(t)*0.9*math.Sin(float64(b)+0.4)
			y := 200 - float64(b)*22 - float64(t)*0.7
			for d := -3; d <= 3; d++ {
				img.Set(int(x)+d, int(y)+d/2, leaf)
			}
		}
	}
	var buf bytes.Buffer
	if err := png.Encode(&buf, img); err != nil {
		return err
	}
	name := strings.ToLower(strings.ReplaceAll(s.species(), " ", "-"))
	return s.write(at, buf.Bytes(), "herbarium-scans", "sheets", fmt.Sprint(year), fmt.Sprintf("LB-%05d-%s.png", 4000+n,
		name))
}

// telemetry appends a day of readings to the month's file of each house.
func (s *survey) telemetry(at time.Time) error {
	for _, house := range []string{"fern-house", "alpine-house", "propagation"} {
		p := s.path("greenhouse-telemetry", house, at.Format("2006-01")+".csv")
		if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
			return err
		}
		f, err := os.OpenFile(p, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
		if err != nil {
			return err
		}
		for q := range 96 {
			t := at.Truncate(24 * time.Hour).Add(time.Duration(q) * 15 * time.Minute)
			fmt.Fprintf(f, "%s,%.1f,%.0f,%.2f\n", t.Format("2006-01-02T15:04"), 17+5*math.Sin(float64(q)/15)+s.rng.Float64(),
				60+20*s.rng.Float64(), s.rng.Float64())
		}
		if err := f.Close(); err != nil {
			return err
		}
		if err := os.Chtimes(p, at, at); err != nil {
			return err
		}
	}
	return nil
}

// register enters accessions into a database file that changes in place.
func (s *survey) register(at time.Time, n int) error {
	p := s.path("accession-register", "accessions.sqlite")
	if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
		return err
	}
	db, err := sql.Open("sqlite", p+"?_pragma=synchronous(OFF)")
	if err != nil {
		return err
	}
	defer db.Close()
	if _, err := db.Exec(`CREATE TABLE IF NOT EXISTS accessions
		(number TEXT PRIMARY KEY, taxon TEXT, place TEXT, day TEXT, note TEXT)`); err != nil {
		return err
	}
	for range n {
		if _, err := db.Exec(`INSERT OR REPLACE INTO accessions VALUES (?,?,?,?,?)`,
			fmt.Sprintf("LB-%06d", s.rng.IntN(900000)), s.species(), pick(s.rng, places),
			at.Format("2006-01-02"), strings.Repeat("Det. from living material. ", 1+s.rng.IntN(6))); err != nil {
			return err
		}
	}
	return os.Chtimes(p, at, at)
}

// pdf returns a one-page document (ISO 32000-1) with a line of text.
func (s *survey) pdf(title string) []byte {
	var b bytes.Buffer
	var offs []int
	obj := func(body string) {
		offs = append(offs, b.Len())
		fmt.Fprintf(&b, "%d 0 obj\n%s\nendobj\n", len(offs), body)
	}
	b.WriteString("%PDF-1.4\n")
	var text strings.Builder
	fmt.Fprintf(&text, "BT /F1 16 Tf 72 760 Td (%s) Tj /F1 10 Tf", title)
	for range 40 {
		fmt.Fprintf(&text, " 0 -16 Td (%s at the %s, %d plants counted.) Tj", s.species(), pick(s.rng, places),
			s.rng.IntN(400))
	}
	text.WriteString(" ET")
	obj("<< /Type /Catalog /Pages 2 0 R >>")
	obj("<< /Type /Pages /Kids [3 0 R] /Count 1 >>")
	obj("<< /Type /Page /Parent 2 0 R /MediaBox [0 0 595 842] /Contents 4 0 R /Resources << /Font << /F1 5 0 R >> >> >>")
	obj(fmt.Sprintf("<< /Length %d >>\nstream\n%s\nendstream", text.Len(), text.String()))
	obj("<< /Type /Font /Subtype /Type1 /BaseFont /Helvetica >>")
	xref := b.Len()
	fmt.Fprintf(&b, "xref\n0 %d\n0000000000 65535 f \n", len(offs)+1)
	for _, o := range offs {
		fmt.Fprintf(&b, "%010d 00000 n \n", o)
	}
	fmt.Fprintf(&b, "trailer << /Size %d /Root 1 0 R >>\nstartxref\n%d\n%%%%EOF\n", len(offs)+1, xref)
	return b.Bytes()
}
