package overview

import (
	"context"
	"errors"
	"time"

	"candidharbor/internal/catalog"
	"candidharbor/internal/route"
	"candidharbor/internal/run"
)

const (
	channelWebhook = "webhook"
	channelMail    = "mail"
	noticeTries    = 60 // about two days
	noticesAtOnce  = 50
)

// channels are where alarms are sent beside the log.
func (s *Service) channels() (names []string) {
	if a := s.Conf.Alarms; a != nil {
		if a.Webhook != nil {
			names = append(names, channelWebhook)
		}
		if a.Mail != nil {
			names = append(names, channelMail)
		}
	}
	return names
}

// sendNotices sends out what waits, in its order over each channel: while one cannot be
// sent, those after it wait too.
func (s *Service) sendNotices(ctx context.Context) error {
	release, err := s.run.Hold(ctx, run.KeyNotices.Of(""))
	if err != nil {
		return err
	}
	defer release()
	var errs []error
	for _, ch := range []string{channelWebhook, channelMail} {
		waiting, err := s.Catalog.Notices(ch, noticesAtOnce)
		errs = append(errs, err)
		for _, n := range waiting {
			sent, err := s.sendOne(ctx, n)
			errs = append(errs, err)
			if !sent || err != nil {
				break
			}
		}
	}
	return errors.Join(errs...)
}

// sendOne sends a notice that is due and reports whether the next may go.
func (s *Service) sendOne(ctx context.Context, n *catalog.Notice) (sent bool, err error) {
	now := s.Clock.Now()
	if n.NextTry.After(now) {
		return false, nil
	}
	err = s.send(ctx, n)
	switch {
	case err == nil:
		return true, s.Catalog.NoticeSent(n.ID)
	case ctx.Err() != nil:
		return false, ctx.Err()
	case n.Tries+1 >= noticeTries:
		s.Log.Error("an alarm could not be sent and is given up", "channel", n.Channel, "subject", n.Subject, "error", err)
		return true, s.Catalog.NoticeSent(n.ID)
	}
	s.Log.Warn("an alarm could not be sent; it is tried again", "channel", n.Channel, "subject", n.Subject, "error", err)
	return false, s.Catalog.NoticeFailed(n.ID, err.Error(), now.Add(route.RetryAfter(n.Tries)))
}

func (s *Service) send(ctx context.Context, n *catalog.Notice) error {
	ctx, cancel := context.WithTimeout(ctx, 15*time.Second)
	defer cancel()
	a := s.Conf.Alarms
	switch {
	case a == nil:
	case n.Channel == channelWebhook && a.Webhook != nil:
		return post(ctx, a.Webhook, n)
	case n.Channel == channelMail && a.Mail != nil:
		return sendMail(ctx, a.Mail, n)
	}
	return nil // the channel was taken out of site.yaml meanwhile
}
