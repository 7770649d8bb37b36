package authority

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"

	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/pairing"
	"candidharbor/internal/phrase"
	"candidharbor/internal/records"
	"candidharbor/internal/refusal"
	"candidharbor/internal/transfer"
)

// mostClaims bounds how many histories one site may have witnessed.
const mostClaims = 100_000

// claim asks a third site to witness that the asking one takes histories over, or to forget that it did.
type claim struct {
	Act      string             `cbor:"1,keyasint"`
	Lineages []object.LineageID `cbor:"2,keyasint"`
	Terms    []uint64           `cbor:"3,keyasint"`
	Nonce    []byte             `cbor:"4,keyasint"`
	Withdraw bool               `cbor:"5,keyasint,omitempty"`
}

// claimed is the answer. Without By it is witnessed, all of it, durably.
type claimed struct {
	Nonce []byte `cbor:"1,keyasint"`
	By    string `cbor:"2,keyasint,omitempty"` // the site that has it
	Term  uint64 `cbor:"3,keyasint,omitempty"`
}

func (s *Service) witness() {
	s.pairing.Handle("claim", pairing.NeedsNothing, func(_ context.Context, q *pairing.Request) error {
		var c claim
		if err := transfer.Decode(q.Body, &c); err != nil {
			return err
		}
		out, err := s.witnessed(q.Peer, &c)
		if err != nil {
			return err
		}
		return q.Stream.Reply(out)
	})
}

// errTaken ends a transaction that is not to be.
var errTaken = errors.New("another site has claimed it")

// witnessed compares and sets: all histories, or none.
func (s *Service) witnessed(peer *catalog.Peer, c *claim) (*claimed, error) {
	out := &claimed{Nonce: c.Nonce}
	switch {
	case len(c.Lineages) != len(c.Terms) || len(c.Nonce) != 16 || len(c.Act) > 64:
		return nil, &transfer.Refusal{What: "that is no claim"}
	case c.Withdraw:
		return out, s.Catalog.WithdrawClaims(peer.Name, c.Act)
	}
	n, err := s.Catalog.CountClaims(peer.Name)
	if err != nil {
		return nil, err
	}
	if n+len(c.Lineages) > mostClaims {
		return nil, &transfer.Refusal{What: fmt.Sprintf("%s has claimed %s already", peer.Name, phrase.Many(n, "history"))}
	}
	now := s.Clock.Now()
	err = s.Catalog.Atomically(func(cat *catalog.Catalog) error {
		for i, l := range c.Lineages {
			lineage, term := hex.EncodeToString(l[:]), c.Terms[i]
			was, err := cat.Claim(lineage)
			if err != nil {
				return err
			}
			if was != nil && (uint64(was.Term) > term || uint64(was.Term) == term && was.Site != peer.Name) {
				out.By, out.Term = was.Site, uint64(was.Term)
				return errTaken
			}
			// Where this site has the history itself, it knows more than what was claimed.
			if v, err := cat.VolumeOfLineage(lineage); err == nil {
				if active, at := s.Active(v); at >= term && active != peer.Name {
					out.By, out.Term = active, at
					return errTaken
				}
				if line := s.Line(v); len(line) > 0 && !line[len(line)-1].May(peer.Name) {
					return &transfer.Refusal{What: fmt.Sprintf("%s may not take %s over", peer.Name, v.Name)}
				}
			} else if !errors.Is(err, catalog.ErrNone) {
				return err
			}
			if err := cat.PutClaim(&catalog.Claim{Lineage: lineage, Term: int64(term), Site: peer.Name, Act: c.Act,
				At: catalog.At(now)}); err != nil {
				return err
			}
		}
		return nil
	})
	if errors.Is(err, errTaken) {
		err = nil
	}
	return out, err
}

// Claim has another site witness that this one takes volumes over in their next term, or forget it where nothing came
// of that. It is refused when the witness knows of another site that does.
func (s *Service) Claim(ctx context.Context, site string, vols []*catalog.Volume, act string, withdraw bool) error {
	peer, err := s.Catalog.Peer(site)
	if err != nil {
		return err
	}
	ask := claim{Act: act, Nonce: make([]byte, 16), Withdraw: withdraw}
	rand.Read(ask.Nonce)
	for _, v := range vols {
		_, term := s.Active(v)
		ask.Lineages, ask.Terms = append(ask.Lineages, records.LineageOf(v.Lineage)), append(ask.Terms, term+1)
	}
	var told claimed
	if err := s.pairing.AskPeer(ctx, peer, "claim", ask, &told); err != nil {
		return refusal.Wrap(refusal.Elsewhere, fmt.Errorf("%s does not witness it: %w", site, err))
	}
	switch {
	case !bytes.Equal(told.Nonce, ask.Nonce):
		return refusal.Wrap(refusal.Elsewhere, fmt.Errorf("%s answers something else than it was asked", site))
	case told.By != "":
		return refusal.Conflictf("%s has witnessed that %s takes over, in term %d", site, told.By, told.Term)
	}
	return nil
}
