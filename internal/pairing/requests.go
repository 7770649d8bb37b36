package pairing

import (
	"context"
	"crypto/ed25519"
	"encoding/hex"
	"fmt"

	"candidharbor/internal/catalog"
	"candidharbor/internal/transfer"
)

// resolvePeer finds the peer that a key belongs to, or nil. A peer that shows the key it
// announced uses that one from now on.
func (s *Service) resolvePeer(key ed25519.PublicKey) (*catalog.Peer, error) {
	text := hex.EncodeToString(key)
	p, err := s.Catalog.PeerByKey(text)
	if err != nil || p == nil || p.Key == text {
		return p, err
	}
	if changed, err := s.Catalog.ChangeKey(p, text); err != nil {
		return nil, err
	} else if changed {
		if err := s.onGrants(); err != nil {
			s.Log.Error("what may be taken over could not be said with a site's new key", "site", p.Name, "error", err)
		}
		s.Log.Info("a site shows the key that it announced; the one before counts no more", "site", p.Name)
	}
	return s.Catalog.PeerByKey(text) // as it is now: it may have been revoked, or another request was first
}

// serveStream answers one request of a peer. Only pairing is open to keys not known.
func (s *Service) serveStream(ctx context.Context, l *transfer.Link, st *transfer.Stream) {
	op, body, err := st.Request()
	if err != nil {
		return
	}
	if op == "pair" {
		if err := s.servePair(l.Key, l.Address, body, st); err != nil {
			st.Refuse(&transfer.Refusal{What: err.Error(), Final: true})
		}
		return
	}
	peer, err := s.resolvePeer(l.Key)
	if err == nil && peer == nil {
		err = &transfer.Refusal{What: fmt.Sprintf("the site %s does not know this key: pair first", s.Name()), Final: true}
	}
	if err == nil {
		_ = s.Catalog.SawPeer(peer.Name, s.Clock.Now())
		err = s.serveRequest(ctx, &Request{peer, l, op, body, st})
	}
	if err != nil && ctx.Err() == nil {
		s.Log.Warn("a peer's request failed", "request", op, "error", err)
		st.Refuse(err)
	}
}

// Request is what a peer asks.
type Request struct {
	Peer   *catalog.Peer
	Link   *transfer.Link
	Op     string
	Body   []byte
	Stream *transfer.Stream
}

// need is a grant without which a request is refused.
type need struct {
	has   func(catalog.Grants) bool
	what  string // it cannot do then
	grant string // that would let it
}

var (
	NeedsNothing = need{has: func(catalog.Grants) bool { return true }}
	NeedsOffer   = need{func(g catalog.Grants) bool { return g.Offer }, "bring snapshots there", grantOffer}
	NeedsRead    = need{func(g catalog.Grants) bool { return g.Read }, "read its snapshots", GrantRead}
	needsSee     = need{func(g catalog.Grants) bool { return g.See || g.Configure }, "look at it", grantSee}
	NeedsAny     = need{func(g catalog.Grants) bool { return g.Offer || g.Read || g.See }, "look at it", grantSee}
)

type handler struct {
	need
	answer func(ctx context.Context, q *Request) error
}

// Handle has requests of one kind answered, of peers that were granted what they need.
func (s *Service) Handle(op string, needs need, answer func(ctx context.Context, q *Request) error) {
	s.handlers[op] = handler{needs, answer}
}

// answerPeers has requests answered that are about the pairing itself.
func (s *Service) answerPeers() {
	s.handlers = map[string]handler{}
	s.Handle("hello", NeedsNothing, func(_ context.Context, q *Request) error {
		return s.serveHello(q.Peer, q.Body, q.Stream)
	})
	s.Handle("rekey", NeedsNothing, func(_ context.Context, q *Request) error {
		return s.serveRekey(q.Peer, q.Body, q.Stream)
	})
	s.Handle("desk", needsSee, func(ctx context.Context, q *Request) error { return s.serveRemote(ctx, q.Peer, q.Stream) })
}

func (s *Service) serveRequest(ctx context.Context, q *Request) error {
	h, ok := s.handlers[q.Op]
	if !ok {
		return &transfer.Refusal{What: fmt.Sprintf("this site does not know the request %q: bring both to the same release",
			q.Op), Final: true}
	}
	if !h.has(q.Peer.Grants.V) {
		return &transfer.Refusal{What: fmt.Sprintf("%s does not let %s %s: a person there can, with candid site grant %s %s",
			s.Name(), q.Peer.Name, h.what, q.Peer.Name, h.grant), Final: true}
	}
	return h.answer(ctx, q)
}
