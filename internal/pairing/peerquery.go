package pairing

import (
	"context"
	"fmt"
	"time"

	"candidharbor/internal/catalog"
)

// askPatience is how long a site that does not answer is waited for.
const askPatience = 4 * time.Second

// AskPeer asks a peer one thing, with patience that ends.
func (s *Service) AskPeer(ctx context.Context, p *catalog.Peer, op string, body, into any) error {
	ctx, cancel := context.WithTimeout(ctx, askPatience)
	defer cancel()
	link, _, err := s.Link(ctx, p)
	if err != nil {
		return err
	}
	st, err := link.Open(op, body)
	if err != nil {
		return err
	}
	defer st.Close()
	stop := context.AfterFunc(ctx, func() { st.Close() })
	defer stop()
	if err := st.Answer(into); err != nil {
		if ctx.Err() != nil {
			err = fmt.Errorf("no answer within %s", askPatience)
		}
		return err
	}
	return nil
}
