package site

import (
	"context"
	"fmt"
	"strings"

	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/store"

	"github.com/RoaringBitmap/roaring/v2"
)

// heal puts damaged objects back from other sites that have them. It tells what it did in
// words, and whether nothing damaged is left.
func (s *Site) heal(ctx context.Context, j *job, damage []store.Damage) (words string, whole bool, err error) {
	var left []object.ID
	for _, d := range damage {
		if !d.Object.IsZero() {
			left = append(left, d.Object)
		}
	}
	peers, err := s.cat.Peers()
	if err != nil || len(left) == 0 || len(peers) == 0 {
		return "", false, err
	}
	all := len(left)
	var from []string
	for _, p := range peers {
		if len(left) == 0 {
			break
		}
		j.say("asking " + p.Name)
		res, err := s.store.Heal(ctx, left, func(ctx context.Context, ids []object.ID) ([][]byte, error) { return s.askObjects(ctx, p, ids) })
		if err != nil {
			if ctx.Err() != nil {
				return "", false, ctx.Err()
			}
			j.logf("%s could not be asked for what is damaged: %v", p.Name, err)
			continue
		}
		if res.Healed > 0 {
			from = append(from, p.Name)
			j.logf("%s put back from %s", many(res.Healed, "object"), p.Name)
			s.log.Info("damaged objects were put back", "objects", res.Healed, "from", p.Name)
		}
		left = res.Left
	}
	if len(from) == 0 {
		return "no other site has them", false, nil
	}
	s.changed("snapshots")
	if len(left) > 0 {
		return fmt.Sprintf("%d of them were put back from %s", all-len(left), strings.Join(from, ", ")), false, nil
	}
	words = "all of them were put back from " + strings.Join(from, ", ")
	if all < len(damage) {
		words += ", as far as they could still be named"
	}
	return words, all == len(damage), nil
}

func (s *Site) askObjects(ctx context.Context, p *catalog.Peer, ids []object.ID) ([][]byte, error) {
	link, _, err := s.link(ctx, p)
	if err != nil {
		return nil, err
	}
	var out [][]byte
	for len(ids) > 0 {
		n := min(len(ids), mostObjects)
		st, err := link.Open("objects", objectsAsk{IDs: ids[:n]})
		if err != nil {
			return nil, err
		}
		for range n {
			var raw []byte
			if err := st.Answer(&raw); err != nil {
				st.Close()
				return nil, err
			}
			if len(raw) > 0 {
				out = append(out, raw)
			}
		}
		st.Close()
		ids = ids[n:]
	}
	return out, nil
}

// heldFor is the set of objects of all histories that a peer may have.
func (s *Site) heldFor(peer *catalog.Peer) (*roaring.Bitmap, error) {
	vols, err := s.cat.Volumes()
	if err != nil {
		return nil, err
	}
	routes, err := s.cat.Routes()
	if err != nil {
		return nil, err
	}
	may := map[string]bool{}
	if peer.Grants.V.Read {
		readable, err := s.mayRead(peer)
		if err != nil {
			return nil, err
		}
		for _, v := range readable {
			may[v.Name] = true
		}
	}
	held := roaring.New()
	for _, v := range vols {
		ok := may[v.Name] || v.Origin == peer.Name
		for _, r := range routes {
			if r.Peer != peer.Name || !s.carries(r, v) {
				continue
			}
			if parts := termParts(r.Terms.V); !parts.Whole() { // what it leaves out stays here
				if err := s.heldOfPart(held, r, derivedLineage(lineageOf(v.Lineage), parts)); err != nil {
					return nil, err
				}
				continue
			}
			ok = true
		}
		if !ok {
			continue
		}
		rows, err := s.cat.Snapshots(s.Place(), v.Name, catalog.SnapshotFilter{})
		if err != nil {
			return nil, err
		}
		for _, row := range rows {
			id, err := object.ParseID(row.ID)
			if err != nil {
				return nil, err
			}
			census, err := s.store.Census(id)
			if err != nil {
				continue // damaged here too: the rest may be whole
			}
			held.Or(census)
		}
	}
	return held, nil
}

// heldOfPart adds the objects of the newest part that a route carried.
func (s *Site) heldOfPart(held *roaring.Bitmap, r *catalog.Route, lineage object.LineageID) error {
	base, err := s.cat.Setting(derivedSetting(r.Name, lineage))
	if err != nil {
		return err
	}
	if id, err := object.ParseID(base); err == nil {
		if census, err := s.store.Census(id); err == nil {
			held.Or(census)
		}
	}
	return nil
}
