package demo

import (
	"fmt"
	"os"
	"path/filepath"
	"time"

	"candidharbor/api"
	"candidharbor/client"
)

const (
	walker   = 2004 // who Ines is on the files, where the demo may give files away
	ownWalks = "transect-3"
	password = "a day at the harbor"
)

// owned tells whose files a demo makes that does not run as root, and gives Ines hers when it
// does.
func owned(path string) error {
	if os.Geteuid() != 0 || filepath.Base(filepath.Dir(path)) != ownWalks {
		return nil
	}
	for _, p := range []string{filepath.Dir(path), path} {
		if err := os.Chown(p, walker, walker); err != nil {
			return err
		}
	}
	return nil
}

// peopleSignIn lets three people in, of whom one brings back an own file by herself.
func (s *story) peopleSignIn() error {
	site := s.larkfield.Site
	uid, gids := uint32(walker), []uint32{walker}
	if os.Geteuid() != 0 {
		uid, gids = uint32(os.Geteuid()), []uint32{uint32(os.Getegid())}
	}
	year := s.clock.Now().Format("2006")
	folder := filepath.Join(year, ownWalks)
	if err := s.files.note(s.clock.Now(), 3); err != nil {
		return err
	}
	note := s.files.path("field-notebooks", folder, s.clock.Now().Format("01-02")+".txt")
	if err := s.advance(s.clock.Now().Add(15 * time.Hour)); err != nil {
		return err
	}
	before, err := os.ReadFile(note)
	if err != nil {
		return err
	}
	admin, err := client.New(s.larkfield.Socket, "")
	if err != nil {
		return err
	}
	for _, p := range []api.PersonAdd{{Name: "marta", Role: "operator"}, {Name: "tomas", Role: "auditor"},
		{Name: "ines", Role: "file owner", UID: &uid, GIDs: gids}} {
		p.Password = password
		if err := admin.Post(s.ctx, "/people", p, nil); err != nil {
			return err
		}
	}
	if err := admin.Post(s.ctx, "/people/ines/folders", api.FolderGrantAsk{Volume: "field-notebooks",
		Paths: []string{folder}}, nil); err != nil {
		return err
	}
	if err := s.step("Three people may sign in: marta, an operator, tomas, an auditor, and ines, who sees her own "+
		"walks alone.", "", nil); err != nil {
		return err
	}
	as := map[string]*client.Client{}
	for _, name := range []string{"ines", "tomas"} {
		t, err := site.Access.NewToken(api.TokenAdd{Name: "of-" + name, Person: name})
		if err != nil {
			return err
		}
		if as[name], err = client.New(s.larkfield.URL, t.Text); err != nil {
			return err
		}
	}
	if err := os.Remove(note); err != nil {
		return err
	}
	var run api.Run
	ask := api.RestoreAsk{Volume: "field-notebooks", Paths: []string{filepath.Join(folder, filepath.Base(note))},
		At: "latest", InPlace: true}
	if err := as["ines"].Post(s.ctx, "/restores", ask, &run); err != nil {
		return err
	}
	done, err := as["ines"].WaitRun(s.ctx, run.ID, nil)
	if err != nil {
		return err
	}
	if err := s.step("Ines loses a page and brings it back herself, asking nobody.", done.Outcome, nil); err != nil {
		return err
	}
	after, err := os.ReadFile(note)
	if err != nil {
		return err
	}
	if err := s.check(string(before) == string(after), "the page is the one that was lost"); err != nil {
		return err
	}
	if err := s.check(as["ines"].Get(s.ctx, "/status", nil, nil) != nil && as["ines"].Post(s.ctx, "/restores",
		api.RestoreAsk{Volume: "herbarium-scans", Paths: []string{"1921"}, At: "latest", InPlace: true}, nil) != nil,
		"what is not hers she can neither see nor touch"); err != nil {
		return err
	}
	var proof api.LedgerProof
	if err := as["tomas"].Post(s.ctx, "/ledger/verify", nil, &proof); err != nil {
		return err
	}
	if err := s.step("Tomas verifies the ledger.", proof.Sentence, nil); err != nil {
		return err
	}
	return s.check(proof.Whole, fmt.Sprintf("the ledger of %d entries is whole", proof.Entries))
}
