package catalog

import "time"

// Alarm is something that needs a person.
type Alarm struct {
	ID      int64  `db:"id"`
	Key     string `db:"key"` // what it is about; one alarm of a key is open at a time
	Text    string `db:"text"`
	Next    string `db:"next"`
	Command string `db:"command"`
	Link    string `db:"link"`
	Since   Time   `db:"since"`
	Ended   Time   `db:"ended"`
	// Volumes are those that it is about, where it says the same of each.
	Volumes JSON[[]string] `db:"volumes"`
}

// Notice is a message that is to be sent out.
type Notice struct {
	ID      int64  `db:"id"`
	Channel string `db:"channel"`
	Subject string `db:"subject"`
	Body    string `db:"body"`
	Made    Time   `db:"made"`
	Tries   int    `db:"tries"`
	NextTry Time   `db:"next_try"`
	Error   string `db:"error"`
}

// OpenAlarms returns the alarms that have not ended, oldest first.
func (c *Catalog) OpenAlarms() (as []*Alarm, err error) {
	err = c.db.Select(&as, `SELECT * FROM alarms WHERE ended=0 ORDER BY id`)
	return as, err
}

// Alarms returns the newest alarms below an id, open or ended.
func (c *Catalog) Alarms(before int64, limit int) (as []*Alarm, err error) {
	if before == 0 {
		before = 1 << 62
	}
	err = c.db.Select(&as, `SELECT * FROM alarms WHERE id<? ORDER BY id DESC LIMIT ?`, before, limit)
	return as, err
}

// Alarm returns one alarm.
func (c *Catalog) Alarm(id int64) (*Alarm, error) {
	a := &Alarm{}
	return a, none(c.db.Get(a, `SELECT * FROM alarms WHERE id=?`, id), "alarm", "")
}

// NoteAlarms stores alarms that begin, change and end, with the notices of it, all or none.
func (c *Catalog) NoteAlarms(begun, changed, ended []*Alarm, notices []*Notice) error {
	tx, err := c.begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, a := range begun {
		if _, err := tx.NamedExec(
			`INSERT INTO alarms (key,text,next,command,link,since,ended,volumes)
			VALUES (:key,:text,:next,:command,:link,:since,0,:volumes)`, a); err != nil {
			return err
		}
	}
	for _, a := range append(changed, ended...) {
		if _, err := tx.NamedExec(`UPDATE alarms SET text=:text, next=:next, command=:command, ended=:ended,
			volumes=:volumes WHERE id=:id`, a); err != nil {
			return err
		}
	}
	for _, n := range notices {
		if _, err := tx.NamedExec(
			`INSERT INTO notices (channel,subject,body,made,tries,next_try,error) VALUES (:channel,:subject,:body,:made,0,0,'')`,
			n); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// ForgetAlarms removes alarms that ended before a time.
func (c *Catalog) ForgetAlarms(before time.Time) error {
	_, err := c.db.Exec(`DELETE FROM alarms WHERE ended>0 AND ended<?`, At(before))
	return err
}

// Mute is how long alarms of a key are not sent out, and of which volumes; none: whatever they are about.
type Mute struct {
	Key     string         `db:"key"`
	Until   Time           `db:"until"`
	Volumes JSON[[]string] `db:"volumes"`
}

// Mute keeps the alarms of a key from being sent out until a time; the zero time ends it.
func (c *Catalog) Mute(m *Mute) error {
	_, err := c.db.NamedExec(`INSERT OR REPLACE INTO mutes (key,until,volumes) VALUES (:key,:until,:volumes)`, m)
	return err
}

// Mutes returns what is not sent out at a time, by key.
func (c *Catalog) Mutes(now time.Time) (map[string]*Mute, error) {
	var rows []*Mute
	err := c.db.Select(&rows, `SELECT * FROM mutes WHERE until>?`, At(now))
	out := map[string]*Mute{}
	for _, m := range rows {
		out[m.Key] = m
	}
	return out, err
}

// Notices returns what waits to be sent over a channel, oldest first.
func (c *Catalog) Notices(channel string, limit int) (waiting []*Notice, err error) {
	err = c.db.Select(&waiting, `SELECT * FROM notices WHERE channel=? ORDER BY id LIMIT ?`, channel, limit)
	return waiting, err
}

// NoticeSent removes a notice that arrived, or that nobody waits for any more.
func (c *Catalog) NoticeSent(id int64) error {
	_, err := c.db.Exec(`DELETE FROM notices WHERE id=?`, id)
	return err
}

// NoticeFailed notes why a notice could not be sent and when that is tried again.
func (c *Catalog) NoticeFailed(id int64, why string, next time.Time) error {
	_, err := c.db.Exec(`UPDATE notices SET tries=tries+1, error=?, next_try=? WHERE id=?`, why, At(next), id)
	return err
}

// FailingNotices returns the last error of each channel that has notices waiting.
func (c *Catalog) FailingNotices() (map[string]string, error) {
	var rows []Notice
	err := c.db.Select(&rows, `SELECT * FROM notices WHERE tries>0 ORDER BY id`)
	out := map[string]string{}
	for _, n := range rows {
		out[n.Channel] = n.Error
	}
	return out, err
}
