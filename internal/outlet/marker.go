package outlet

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"time"
)

// markerName is the file in a volume's directory at an outlet that says what lies there.
const markerName = ".candid-outlet.json"

const (
	mostMarker = 64 << 10
	whole      = "whole"
	changing   = "changing"
)

// marker says what lies in a directory.
type marker struct {
	Site     string    `json:"site"`
	Volume   string    `json:"volume"`
	Lineage  string    `json:"lineage"`
	State    string    `json:"state"`              // whole, or changing: then it is partly one state, partly another
	Snapshot string    `json:"snapshot,omitempty"` // that lies there, or is being laid out
	AsOf     time.Time `json:"asOf,omitzero"`
	Bases    []string  `json:"bases"` // snapshots of which something may lie there
	// Partial says that no base ever lay there whole, or some paths could not be laid out: what the bases have alike may
	// lack there.
	Partial bool `json:"partial,omitempty"`
}

// readMarker reads the marker of a directory; nil: it has none.
func (h *host) readMarker(dir string) (*marker, error) {
	f, err := h.Open(path.Join(dir, markerName))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, mostMarker))
	if err != nil {
		return nil, err
	}
	m := &marker{}
	if err := json.Unmarshal(raw, m); err != nil {
		// Never of a run that was cut: it is put in place whole.
		return nil, fmt.Errorf("%s in %s is not as this site left it: empty the directory there", markerName, dir)
	}
	return m, nil
}

func (h *host) writeMarker(dir string, m *marker) error {
	raw, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return err
	}
	temp := path.Join(dir, tempName())
	f, err := h.Create(temp)
	if err != nil {
		return err
	}
	_, err = f.Write(append(raw, '\n'))
	if err == nil {
		err = h.sync(f)
	}
	if err = errors.Join(err, f.Close()); err == nil {
		err = h.rename(temp, path.Join(dir, markerName))
	}
	return err
}
