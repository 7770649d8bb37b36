package demo

import (
	"path/filepath"

	"candidharbor/api"
	"candidharbor/internal/sftphost"

	"golang.org/x/crypto/ssh"
)

// opensOutlet has the newest field notebooks lie at the university's library, whose machine runs no such service.
func (s *story) opensOutlet() error {
	key, err := s.larkfield.Site.Outlets.Key()
	if err != nil {
		return err
	}
	if s.shelf, err = sftphost.Start("127.0.0.1:0", key.Line); err != nil {
		return err
	}
	o, err := s.larkfield.Site.Outlets.Add(s.ctx, api.OutletAdd{Name: "library", Names: []string{"field-notebooks"},
		To:      "sftp://survey@" + s.shelf.Address + filepath.Join(s.opt.Data, "library"),
		HostKey: ssh.FingerprintSHA256(s.shelf.Key)})
	if err != nil {
		return err
	}
	if err := s.step("The library, which runs no such service, is to have the newest field notebooks as plain files.",
		o.Sentence, nil); err != nil {
		return err
	}
	out, err := s.run(s.larkfield)(s.larkfield.Site.Outlets.Run("library", "the demo", false))
	return s.step("They are laid out there by SFTP.", out, err)
}

// outletIsCurrent checks that what lies at the library is the newest state.
func (s *story) outletIsCurrent() error {
	out, err := s.run(s.larkfield)(s.larkfield.Site.Outlets.Run("library", "the demo", true))
	if err != nil {
		return err
	}
	o, err := s.larkfield.Site.Outlets.Outlet("library")
	if err != nil {
		return err
	}
	return s.check(o.State == "current" && o.Volumes[0].Verified != nil,
		"the library has the newest field notebooks: "+out)
}
