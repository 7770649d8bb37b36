package route

import (
	"time"

	"candidharbor/core/object"
	"candidharbor/internal/catalog"
)

// history is a volume that a peer may read.
type history struct {
	Lineage object.LineageID  `cbor:"1,keyasint"`
	Volume  string            `cbor:"2,keyasint"` // at its origin
	Origin  string            `cbor:"3,keyasint"`
	Labels  map[string]string `cbor:"4,keyasint,omitempty"`
	Rules   string            `cbor:"5,keyasint,omitempty"` // proposed for the place of who asks
}

// header is what a peer needs to know of a snapshot before it asks for it.
type header struct {
	ID       object.ID         `cbor:"1,keyasint"`
	Term     uint64            `cbor:"2,keyasint"`
	Sequence uint64            `cbor:"3,keyasint"`
	Began    int64             `cbor:"4,keyasint"`
	Seen     int64             `cbor:"5,keyasint,omitempty"`
	Marked   int64             `cbor:"6,keyasint,omitempty"`
	Cause    string            `cbor:"7,keyasint"`
	Labels   map[string]string `cbor:"8,keyasint,omitempty"`
	Keep     string            `cbor:"9,keyasint,omitempty"`
	Ends     int64             `cbor:"10,keyasint,omitempty"` // its own end
	Set      string            `cbor:"11,keyasint,omitempty"`
	Ended    int64             `cbor:"12,keyasint,omitempty"`
	Watched  int64             `cbor:"13,keyasint,omitempty"`
	Files    int64             `cbor:"14,keyasint,omitempty"`
	Bytes    int64             `cbor:"15,keyasint,omitempty"`
}

// HistoriesAsk asks what there is to read.
type HistoriesAsk struct {
	Unless []byte `cbor:"1,keyasint,omitempty"` // state that who asks has seen already
}

// Histories answers with everything, or with only that the state is the one named.
type Histories struct {
	All   []history `cbor:"1,keyasint,omitempty"`
	State []byte    `cbor:"2,keyasint"`
	Same  bool      `cbor:"3,keyasint,omitempty"`
}

// HistoryAsk asks for the snapshots of one history, a page at a time.
type HistoryAsk struct {
	Lineage object.LineageID `cbor:"1,keyasint"`
	After   string           `cbor:"2,keyasint,omitempty"` // cursor
}

// HistoryPage is a page of a history.
type HistoryPage struct {
	Headers []header `cbor:"1,keyasint"`
	Next    string   `cbor:"2,keyasint,omitempty"`
}

// Fetch asks for a snapshot to be brought over the same stream.
type Fetch struct {
	Root  object.ID   `cbor:"1,keyasint"`
	Bases []object.ID `cbor:"2,keyasint"` // that who asks has
	SetOf uint32      `cbor:"3,keyasint,omitempty"`
}

const headersPage = 2000

// MostHeaders bounds what a peer can make this site hold in memory.
const MostHeaders = 2_000_000

// Row is the row that a header says, without what only this place knows.
func (h *header) Row() *catalog.Snapshot {
	at := func(n int64) catalog.Time {
		if n == 0 {
			return catalog.Time{}
		}
		return catalog.At(time.Unix(0, n))
	}
	return &catalog.Snapshot{ID: h.ID.String(), Term: int64(h.Term), Sequence: int64(h.Sequence), Began: at(h.Began),
		SeenUntil: at(h.Seen), Marked: at(h.Marked), Cause: h.Cause,
		Labels: catalog.JSON[catalog.Labels]{V: h.Labels}, KeepWhy: h.Keep, OwnEnd: at(h.Ends), SetID: h.Set,
		Ended: at(h.Ended), WatchedUntil: at(h.Watched), Files: h.Files, Bytes: h.Bytes}
}
