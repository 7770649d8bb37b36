package recovery

import (
	"cmp"
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"

	"candidharbor/api"
	"candidharbor/core/object"
	"candidharbor/internal/catalog"
	"candidharbor/internal/pairing"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/transfer"
)

// FindEverywhere searches all snapshots of a volume here and, when asked to, at the other
// sites, for what no snapshot here has.
func (s *Service) FindEverywhere(ctx context.Context, volume string, ask api.FindAsk) (*api.Find, error) {
	out, err := s.Find(ctx, volume, ask)
	if err != nil || !ask.Sites || ask.After != "" {
		return out, err
	}
	v, err := s.tree(volume)
	if err != nil {
		return nil, err
	}
	rows, err := s.ByPosition(v)
	if err != nil {
		return nil, err
	}
	kept := map[string]bool{}
	for _, r := range rows {
		kept[r.ID] = true
	}
	ask.Sites = false
	sites, found, errs, err := lookAtPeers[api.Find](ctx, s, v, "find", ask)
	if err != nil {
		return nil, err
	}
	for i, name := range sites {
		one := api.FoundElsewhere{Site: name, Items: []api.Found{}}
		if errs[i] != nil {
			one.Silent = errs[i].Error()
		} else if found[i] != nil {
			one.Snapshots = found[i].Snapshots
			here := s.finders.of(volume, s.Clock.Now())
			done, err := here.enter(ctx)
			if err != nil {
				return nil, err
			}
			for _, f := range found[i].Items {
				if here.X == nil || !here.X.Has(phrase.RawPath(f.Path), func(id object.ID) bool { return kept[id.String()] }) {
					f.There = false
					one.Items = append(one.Items, f)
				}
			}
			done()
		}
		out.Elsewhere = append(out.Elsewhere, one)
	}
	return out, nil
}

// VersionsEverywhere tells what a path was over time, with versions that only other sites
// have.
func (s *Service) VersionsEverywhere(ctx context.Context, volume, path string) (*api.Versions, error) {
	out, err := s.Versions(volume, path)
	if err != nil && refusal.ClassOf(err) != refusal.Missing {
		return nil, err
	}
	v, verr := s.tree(volume)
	if verr != nil {
		return nil, verr
	}
	sites, told, errs, aerr := lookAtPeers[api.Versions](ctx, s, v, "versions", path)
	if aerr != nil {
		return nil, aerr
	}
	if err != nil {
		out = &api.Versions{Path: path, Items: []api.Version{}}
	}
	for i, name := range sites {
		if errs[i] != nil {
			out.Silent = append(out.Silent, fmt.Sprintf("%s: %v", name, errs[i]))
			continue
		}
		for _, far := range told[i].Items {
			if far.Entry == nil || slices.ContainsFunc(out.Items, func(n api.Version) bool {
				return n.Entry != nil && sameTold(n.Entry, far.Entry)
			}) {
				continue
			}
			far.Site, far.What = name, "changed"
			out.Items = append(out.Items, far)
		}
	}
	if err != nil && len(out.Items) == 0 {
		return nil, err
	}
	slices.SortStableFunc(out.Items, func(a, b api.Version) int {
		return cmp.Or(b.Since.Compare(a.Since), cmp.Compare(a.Site, b.Site))
	})
	return out, nil
}

// sameTold reports whether two versions look the same over the API.
func sameTold(a, b *api.Entry) bool {
	if a.Kind == "directory" && b.Kind == "directory" {
		return a.Mode == b.Mode && a.UID == b.UID && a.GID == b.GID
	}
	return a.Kind == b.Kind && a.Size == b.Size && a.Modified.Equal(b.Modified) && a.Mode == b.Mode && a.UID == b.UID &&
		a.GID == b.GID && a.Target == b.Target
}

// LookAsk asks a peer to look in what it has of a history. Ask and answer are the API's own.
type LookAsk struct {
	Lineage object.LineageID `cbor:"1,keyasint"`
	Ask     []byte           `cbor:"2,keyasint"`
}

// answerPeers has requests answered of peers that look for what is here.
func (s *Service) answerPeers() {
	for _, op := range []string{"find", "versions"} {
		s.pairing.Handle(op, pairing.NeedsNothing, func(ctx context.Context, q *pairing.Request) error {
			return s.serveLook(ctx, q.Peer, q.Op, q.Body, q.Stream)
		})
	}
	s.pairing.Handle("trials", pairing.NeedsAny, func(_ context.Context, q *pairing.Request) error {
		raw, err := s.ownTests(q.Peer.Name)
		if err != nil {
			return err
		}
		return q.Stream.Reply(raw)
	})
}

// serveLook answers a peer that looks for a path in what it may take back. It changes nothing here.
func (s *Service) serveLook(ctx context.Context, peer *catalog.Peer, op string, body []byte,
	st *transfer.Stream) error {
	var q LookAsk
	if err := transfer.Decode(body, &q); err != nil {
		return err
	}
	v, err := s.routes.Recallable(peer, hex.EncodeToString(q.Lineage[:]))
	if err != nil {
		return err
	}
	var out any
	switch {
	case v == nil:
	case op == "find":
		var ask api.FindAsk
		if err := json.Unmarshal(q.Ask, &ask); err != nil {
			return err
		}
		out, err = s.Find(ctx, v.Name, ask)
	case op == "versions":
		var path string
		if err := json.Unmarshal(q.Ask, &path); err != nil {
			return err
		}
		out, err = s.Versions(v.Name, path)
		if refusal.ClassOf(err) == refusal.Missing {
			out, err = &api.Versions{Items: []api.Version{}}, nil
		}
	}
	if err != nil {
		return err
	}
	raw, err := json.Marshal(out)
	if err != nil {
		return err
	}
	return st.Reply(raw)
}
