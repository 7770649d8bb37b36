package store

import (
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"candidharbor/core/authority"
	"candidharbor/core/object"
)

const (
	authorityDir       = "authority"
	maxAuthorityRecord = 4 << 20
)

// Authority is a record of who is active, and the histories of which this site took it in.
type Authority struct {
	*authority.Record
	Of []object.LineageID
}

// PutAuthority keeps a record of who is active, and for which histories it counts here, durably. Records stand beside
// the snapshots, and no sweep or removal takes them. What cannot be read of them is written anew.
func (s *Store) PutAuthority(r *authority.Record, of ...object.LineageID) error {
	name := authorityDir + "/" + r.ID.String()
	err := putSmall(s.media, name, r.Raw)
	if errors.Is(err, fs.ErrExist) {
		if _, rerr := s.authorityRecord(r.ID); rerr == nil {
			err = s.media.Confirm(name)
		} else if !passing(rerr) {
			err = s.media.Replace(name, r.Raw)
		}
	}
	if err != nil {
		return explainFull(s.dir, err)
	}
	// Only with these does the record count: it is there before they are.
	names, empty := make([]string, len(of)), make([][]byte, len(of))
	for i, l := range of {
		names[i] = name + "-" + hex.EncodeToString(l[:])
	}
	s.syncs.add()
	if len(of) == 1 { // without syncing all of the filesystem
		if err := putSmall(s.media, names[0], nil); !errors.Is(err, fs.ErrExist) {
			return explainFull(s.dir, err)
		}
		return s.media.Confirm(names[0])
	}
	return explainFull(s.dir, s.media.PutAll(names, empty))
}

func (s *Store) authorityRecord(id object.ID) (*authority.Record, error) {
	raw, err := readSmall(s.media, authorityDir+"/"+id.String(), maxAuthorityRecord)
	if err != nil {
		return nil, err
	}
	r, err := authority.Read(raw)
	if err == nil && r.ID != id {
		err = ErrDamaged
	}
	if err != nil {
		return nil, fmt.Errorf("record of authority %s: %w", id, err)
	}
	return r, nil
}

// Authorities are all records of who is active that count here. Of one that cannot be read the histories are told,
// for others to give it again.
func (s *Store) Authorities() (all []Authority, lost []object.LineageID, err error) {
	names, err := s.media.List(authorityDir, "", listAtOnce)
	if err != nil {
		return nil, nil, err
	}
	of := map[object.ID][]object.LineageID{}
	for _, n := range names {
		record, history, counts := strings.Cut(n, "-")
		id, err := object.ParseID(record)
		var l object.LineageID
		if raw, herr := hex.DecodeString(history); counts && err == nil && herr == nil && copy(l[:], raw) == len(l) {
			of[id] = append(of[id], l)
		}
	}
	for id, histories := range of {
		r, err := s.authorityRecord(id)
		if passing(err) {
			return nil, nil, err
		}
		if err != nil {
			s.log.Error("a record of authority cannot be read", "record", id, "error", err)
			lost = append(lost, histories...)
			continue
		}
		all = append(all, Authority{r, histories})
	}
	return all, lost, nil
}
