package demo

import (
	"fmt"
	"os"
	"path/filepath"

	"candidharbor/api"
)

// importTried lets someone try an import on a clone of the register, and shows the notebooks'
// moments as a filesystem, where the host lets the demo mount.
func (s *story) importTried() error {
	site := s.larkfield.Site
	at, moments := filepath.Join(s.opt.Data, "restored", "import-test"), filepath.Join(s.opt.Data, "restored", "moments")
	for _, dir := range []string{at, moments} {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return err
		}
	}
	const what = "A clone of the register, to try an import in: writable at once, and only what is changed takes room."
	c, err := site.Clones.MakeClone(api.CloneAsk{Name: "import-test", Volume: "accession-register", At: "latest",
		Dir: at, Until: s.clock.Now().AddDate(0, 0, 30)}, "the demo")
	if err != nil {
		return s.step(what, "It cannot be made on this machine: "+err.Error(), nil)
	}
	if err := s.step(what, c.Sentence, nil); err != nil {
		return err
	}
	live := s.files.path("accession-register")
	before, err := sum(live)
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(at, "import.csv"), []byte("sheet,collector,year\n1931-0417,unknown,1931\n"),
		0o644); err != nil {
		return err
	}
	after, err := sum(live)
	if err != nil {
		return err
	}
	if c, err = site.Clones.Clone("import-test"); err != nil {
		return err
	}
	if err := s.check(c.Changed == 1 && before == after,
		"what is changed in the clone is in the clone alone"); err != nil {
		return err
	}
	m, err := site.Clones.Mount(api.MountAsk{Volume: "field-notebooks", Dir: moments}, "the demo")
	if err != nil {
		return err
	}
	seen, err := os.ReadDir(m.Dir)
	if err != nil {
		return err
	}
	if err := s.step("The notebooks' moments as a filesystem.", fmt.Sprintf("%d names in %s", len(seen), m.Dir),
		nil); err != nil {
		return err
	}
	_, err = os.Stat(filepath.Join(moments, "latest", s.clock.Now().Format("2006")))
	return s.check(err == nil, "the newest moment can be walked through")
}
