package overview

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"
	"candidharbor/internal/moment"
	"candidharbor/internal/phrase"
	"candidharbor/internal/refusal"
	"candidharbor/internal/run"
	"candidharbor/internal/visible"
)

const (
	AlarmsKept = 400 * 24 * time.Hour
	alarmLook  = time.Minute // between looks for alarms, at least
)

// Message is what a webhook gets of an alarm.
type Message struct {
	Site    string     `json:"site"`
	Event   string     `json:"event"` // begins, grows, ends or test
	About   string     `json:"about"`
	Text    string     `json:"text"`
	Next    string     `json:"next,omitempty"`
	Command string     `json:"command,omitempty"`
	Link    string     `json:"link,omitempty"`
	Since   time.Time  `json:"since"`
	Ended   *time.Time `json:"ended,omitempty"`
	Volumes []string   `json:"volumes,omitempty"` // that it is about, where it says the same of each
	Joined  []string   `json:"joined,omitempty"`  // those since it was last told of, where it grows
}

// WatchAlarms compares what needs a person now with what did before. An alarm is each
// sentence of Today on which somebody must act: so both always say the same.
func (s *Service) WatchAlarms() error {
	st, err := s.StatusAnew() // an alarm must not hang on a change having been told
	if err != nil {
		return err
	}
	open, err := s.Catalog.OpenAlarms()
	if err != nil {
		return err
	}
	now := s.Clock.Now()
	mutes, err := s.Catalog.Mutes(now)
	if err != nil {
		return err
	}
	was, is := map[string]*catalog.Alarm{}, map[string]*catalog.Alarm{}
	for _, a := range open {
		was[a.Key] = a
	}
	for _, x := range st.Sentences {
		if x.Weight != "act" || x.About == "" {
			continue
		}
		a := is[x.About]
		if a == nil {
			is[x.About] = &catalog.Alarm{Key: x.About, Text: x.Text, Next: x.Next, Command: x.Command, Link: x.Link,
				Since: catalog.At(now), Volumes: catalog.JSON[[]string]{V: x.Volumes}}
		} else if len(x.Volumes) > 0 { // the same of others, with another way out
			a.Text += " " + x.Text
			a.Volumes.V = slices.Concat(a.Volumes.V, x.Volumes)
		}
	}
	var begun, changed, ended []*catalog.Alarm
	var notices []*catalog.Notice
	for _, key := range slices.Sorted(maps.Keys(is)) {
		a, old := is[key], was[key]
		slices.Sort(a.Volumes.V)
		if old == nil {
			begun = append(begun, a)
			s.Log.Warn("alarm", "about", a.Key, "text", a.Text, "next", a.Command)
			if !muted(mutes[key], a.Volumes.V) {
				notices = append(notices, s.noticesOf(a, "", nil)...)
			}
			continue
		}
		joined := without(a.Volumes.V, old.Volumes.V)
		if old.Text == a.Text && slices.Equal(old.Volumes.V, a.Volumes.V) {
			continue
		}
		a.ID, a.Since = old.ID, old.Since
		changed = append(changed, a)
		if len(joined) > 0 && !muted(mutes[key], joined) {
			s.Log.Warn("alarm grows", "about", a.Key, "also", joined, "next", a.Command)
			notices = append(notices, s.noticesOf(a, "grows", joined)...)
		}
	}
	for _, a := range open {
		if is[a.Key] != nil {
			continue
		}
		a.Ended = catalog.At(now)
		ended = append(ended, a)
		s.Log.Info("an alarm ended", "about", a.Key, "since", a.Since.Time)
		if mutes[a.Key] == nil {
			notices = append(notices, s.noticesOf(a, "", nil)...)
		}
	}
	if len(begun)+len(changed)+len(ended) == 0 {
		return nil
	}
	if err := s.Catalog.NoteAlarms(begun, changed, ended, notices); err != nil {
		return err
	}
	s.run.Publish("alarms")
	return nil
}

// muted reports whether nothing new is said of volumes while a mute lasts: one that was not there when it was made is.
func muted(m *catalog.Mute, volumes []string) bool {
	return m != nil && len(without(volumes, m.Volumes.V)) == 0
}

// without are the names that are not among others, both in order.
func without(names, others []string) (out []string) {
	for _, n := range names {
		if _, is := slices.BinarySearch(others, n); !is {
			out = append(out, n)
		}
	}
	return out
}

// mostInMail is how many volumes a message names.
const mostInMail = 100

// noticesOf are the messages about an alarm, one a channel. joined are volumes that it is about since it grew.
func (s *Service) noticesOf(a *catalog.Alarm, event string, joined []string) (out []*catalog.Notice) {
	now := catalog.At(s.Clock.Now())
	shown := *a // what other sites say gets into alarms, and is read in terminals too
	a = &shown
	say := func(text string) string { return visible.Text(moment.Here().Text(text)) }
	a.Text, a.Next, a.Command = say(a.Text), say(a.Next), say(a.Command)
	m := Message{Site: s.Name(), Event: "begins", About: a.Key, Text: a.Text, Next: a.Next, Command: a.Command,
		Since: a.Since.Time, Volumes: a.Volumes.V, Joined: joined}
	subject := fmt.Sprintf("%s: %s", s.Name(), visible.Line(phrase.FirstSentence(a.Text)))
	if !a.Ended.IsZero() {
		m.Event, m.Ended = "ends", &a.Ended.Time
		subject = "Over: " + subject
	}
	if event != "" {
		m.Event = event
	}
	text := a.Text + "\n\nSince " + moment.Here().Write(a.Since.Time) + ".\n"
	if m.Ended != nil {
		text = fmt.Sprintf("This is over since %s; it lasted %s:\n\n%s\n", moment.Here().Write(*m.Ended),
			phrase.Ago(m.Ended.Sub(a.Since.Time)), a.Text)
	} else {
		if len(joined) > 0 {
			subject = fmt.Sprintf("%s: also %s: %s", s.Name(), phrase.Names(joined, mostNamed),
				visible.Line(phrase.FirstSentence(a.Text)))
			text += "\nNew: " + phrase.Names(joined, mostInMail) + ".\n"
		} else if len(a.Volumes.V) > mostNamed+1 {
			text += "\nAll of them: " + phrase.Names(a.Volumes.V, mostInMail) + ".\n"
		}
		if a.Command != "" {
			text += fmt.Sprintf("\n%s: %s\n", a.Next, a.Command)
		}
	}
	if s.Conf.Alarms != nil && s.Conf.Alarms.Console != "" && a.Link != "" {
		m.Link = strings.TrimSuffix(s.Conf.Alarms.Console, "/") + a.Link
		text += "\n" + m.Link + "\n"
	}
	for _, ch := range s.channels() {
		n := &catalog.Notice{Channel: ch, Subject: subject, Body: text, Made: now}
		if ch == channelWebhook {
			raw, err := json.Marshal(m)
			if err != nil {
				s.Log.Error("an alarm cannot be written as JSON", "about", a.Key, "error", err)
				continue
			}
			n.Body = string(raw)
		}
		out = append(out, n)
	}
	return out
}

// AlarmsEvery is how long from one look for alarms to the next.
func (s *Service) AlarmsEvery() time.Duration {
	s.mu.Lock()
	defer s.mu.Unlock()
	return max(alarmLook, s.alarmEvery)
}

// StepAlarms looks for alarms, at most once in a while, and sends out what waits.
func (s *Service) StepAlarms(ctx context.Context, wait bool) error {
	now := s.Clock.Now()
	s.mu.Lock()
	look := now.Sub(s.alarmed) >= max(alarmLook, s.alarmEvery) || now.Before(s.alarmed)
	if look {
		s.alarmed = now
	}
	s.mu.Unlock()
	if look {
		began := time.Now()
		if err := s.WatchAlarms(); err != nil {
			return err
		}
		s.mu.Lock()
		s.alarmEvery = 100 * time.Since(began) // at most a hundredth of a core
		s.mu.Unlock()
	}
	switch {
	case len(s.channels()) == 0:
	case wait:
		return s.sendNotices(ctx)
	case !s.run.IsHeld(run.KeyNotices.Of("")):
		s.run.Go(func(ctx context.Context) {
			if err := s.sendNotices(ctx); err != nil && ctx.Err() == nil {
				s.Log.Error("alarms could not be sent", "error", err)
			}
		})
	}
	return nil
}

func (s *Service) alarmView(a *catalog.Alarm, mutes map[string]*catalog.Mute) api.Alarm {
	v := api.Alarm{ID: a.ID, About: a.Key, Text: a.Text, Next: a.Next, Command: a.Command, Link: a.Link,
		Since: a.Since.Time, Ended: a.Ended.Ptr(), Volumes: a.Volumes.V}
	if m := mutes[a.Key]; m != nil {
		v.MutedUntil = m.Until.Ptr()
	}
	return v
}

// Alarms lists alarms, newest first: those that are open, or with all the ended ones too.
func (s *Service) Alarms(all bool, before int64) (*api.AlarmList, error) {
	var rows []*catalog.Alarm
	var err error
	if all {
		rows, err = s.Catalog.Alarms(before, 200)
	} else {
		rows, err = s.Catalog.OpenAlarms()
		slices.Reverse(rows)
	}
	if err != nil {
		return nil, err
	}
	mutes, err := s.Catalog.Mutes(s.Clock.Now())
	if err != nil {
		return nil, err
	}
	out := &api.AlarmList{Items: []api.Alarm{}, Channels: append([]string{"log", "console"}, s.channels()...)}
	for _, a := range rows {
		out.Items = append(out.Items, s.alarmView(a, mutes))
	}
	if out.Failing, err = s.Catalog.FailingNotices(); err != nil {
		return nil, err
	}
	return out, nil
}

// TestAlarm sends a message over every channel and tells how that went.
func (s *Service) TestAlarm(ctx context.Context, by string) (string, error) {
	if len(s.channels()) == 0 {
		return "", refusal.Conflictf("alarms go to the log and the console only: name a webhook or mail under alarms in " +
			"site.yaml, then restart the service")
	}
	a := &catalog.Alarm{Key: "test", Text: fmt.Sprintf("This is a test of alarms from %s, asked for by %s. "+
		"Nothing is wrong.", s.Name(), by), Since: catalog.At(s.Clock.Now())}
	var good, failed []string
	for _, n := range s.noticesOf(a, "test", nil) {
		if err := s.send(ctx, n); err != nil {
			failed = append(failed, fmt.Sprintf("%s: %v", n.Channel, err))
		} else {
			good = append(good, n.Channel)
		}
	}
	if len(failed) > 0 {
		return "", refusal.Wrap(refusal.Elsewhere, fmt.Errorf("the test did not arrive by %s", strings.Join(failed, "; ")))
	}
	return fmt.Sprintf("A test was sent by %s.", strings.Join(good, " and ")), nil
}

// MuteAlarm keeps an alarm, and those that begin about the same later, from being sent out
// until a time; of volumes that it is about then, and no others. It stays on Today. Until now or earlier ends the
// silence.
func (s *Service) MuteAlarm(id int64, until time.Time) (*api.Alarm, error) {
	a, err := s.Catalog.Alarm(id)
	if err != nil {
		return nil, err
	}
	if until.Sub(s.Clock.Now()) > 90*24*time.Hour {
		return nil, refusal.Badf("an alarm is muted for 90 days at most: what is never to be told should be put right, or " +
			"its objective changed")
	}
	if err := s.Catalog.Mute(&catalog.Mute{Key: a.Key, Until: catalog.At(until), Volumes: a.Volumes}); err != nil {
		return nil, err
	}
	mutes, err := s.Catalog.Mutes(s.Clock.Now())
	if err != nil {
		return nil, err
	}
	s.run.Publish("alarms")
	v := s.alarmView(a, mutes)
	return &v, nil
}
