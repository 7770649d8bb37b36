package catalog

import (
	"database/sql"
	"errors"
	"time"
)

// PeerHistory is what this site saw of a peer over time, by which it notices that the peer went back to
// an earlier state or lives twice.
type PeerHistory struct {
	Peer          string         `db:"peer"`
	Starts        JSON[[]string] `db:"starts"`     // numbers of its starts, the last seen last
	PutBack       Time           `db:"put_back"`   // when it was noticed that it went back; zero: it did not
	OwedAgain     int            `db:"owed_again"` // snapshots carried there that it lacks since; -1: not compared yet
	TwoSites      Time           `db:"two_sites"`  // when it was noticed that two sites show its key; zero: they do not
	LedgerEntries int64          `db:"ledger_entries"`
	LedgerSum     string         `db:"ledger_sum"`
	ClockAhead    int64          `db:"clock_ahead"`  // of this site's, in nanoseconds
	ClockWithin   int64          `db:"clock_within"` // by which that may be wrong; -1: it was not measured
	Release       string         `db:"release"`      // that it runs; empty: it did not say
}

// PeerHistory returns what was seen of a peer.
func (c *Catalog) PeerHistory(peer string) (h PeerHistory, err error) {
	err = c.db.Get(&h, `SELECT * FROM peer_histories WHERE peer=?`, peer)
	if errors.Is(err, sql.ErrNoRows) {
		return PeerHistory{Peer: peer, ClockWithin: -1}, nil
	}
	return h, err
}

// PeerHistories lists what was seen of peers, by name.
func (c *Catalog) PeerHistories() (all []PeerHistory, err error) {
	err = c.db.Select(&all, `SELECT * FROM peer_histories ORDER BY peer`)
	return all, err
}

// ofPeer sets columns of a peer's history.
func (c *Catalog) ofPeer(peer, set string, args ...any) error {
	return c.Atomically(func(c *Catalog) error {
		if _, err := c.db.Exec(`INSERT OR IGNORE INTO peer_histories (peer) VALUES (?)`, peer); err != nil {
			return err
		}
		_, err := c.db.Exec(`UPDATE peer_histories SET `+set+` WHERE peer=?`, append(args, peer)...)
		return err
	})
}

// SetPeerStarts notes the starts that were seen of a peer.
func (c *Catalog) SetPeerStarts(peer string, starts []string) error {
	return c.ofPeer(peer, `starts=?`, JSON[[]string]{starts})
}

// SetPutBack notes that a peer went back to an earlier state, and how much is owed to it again.
func (c *Catalog) SetPutBack(peer string, at Time, owedAgain int) error {
	return c.ofPeer(peer, `put_back=?, owed_again=?`, at, owedAgain)
}

// ForgetPutBacks says that a person has looked at all peers that went back.
func (c *Catalog) ForgetPutBacks() error {
	_, err := c.db.Exec(`UPDATE peer_histories SET put_back=0, owed_again=0`)
	return err
}

// SetTwoSites notes that two sites show the key of a peer.
func (c *Catalog) SetTwoSites(peer string, at Time) error { return c.ofPeer(peer, `two_sites=?`, at) }

// ForgetTwoSites says that one of two sites with the key of a peer is left, whichever it is.
func (c *Catalog) ForgetTwoSites(peer string) error {
	return c.ofPeer(peer, `two_sites=0, starts='[]'`)
}

// SetClock notes by how much a peer's clock is ahead of this site's, and by how much that may be wrong.
func (c *Catalog) SetClock(peer string, ahead, within time.Duration) error {
	return c.ofPeer(peer, `clock_ahead=?, clock_within=?`, int64(ahead), int64(within))
}

// SetRelease notes the build that a peer runs.
func (c *Catalog) SetRelease(peer, release string) error { return c.ofPeer(peer, `release=?`, release) }

// SetLedgerSeen notes what a peer's ledger came to.
func (c *Catalog) SetLedgerSeen(peer string, entries int64, sum string) error {
	return c.ofPeer(peer, `ledger_entries=?, ledger_sum=?`, entries, sum)
}

// PutFormerKey notes a key that this site has no more.
func (c *Catalog) PutFormerKey(key string, until time.Time) error {
	_, err := c.db.Exec(`INSERT OR REPLACE INTO former_keys (key,until) VALUES (?,?)`, key, At(until))
	return err
}

// FormerKeys lists the keys that this site had before.
func (c *Catalog) FormerKeys() (keys []string, err error) {
	err = c.db.Select(&keys, `SELECT key FROM former_keys ORDER BY key`)
	return keys, err
}

// IsFormerKey reports whether this site had a key before.
func (c *Catalog) IsFormerKey(key string) (is bool, err error) {
	err = c.db.Get(&is, `SELECT EXISTS (SELECT 1 FROM former_keys WHERE key=?)`, key)
	return is, err
}

// Places are the directories of this site's further places, by name.
func (c *Catalog) Places() (map[string]string, error) {
	var rows []struct{ Name, Path string }
	if err := c.db.Select(&rows, `SELECT name, path FROM places`); err != nil {
		return nil, err
	}
	out := make(map[string]string, len(rows))
	for _, r := range rows {
		out[r.Name] = r.Path
	}
	return out, nil
}

// PutPlace notes where a further place is.
func (c *Catalog) PutPlace(name, path string) error {
	_, err := c.db.Exec(`INSERT OR REPLACE INTO places (name,path) VALUES (?,?)`, name, path)
	return err
}

// RemovePlace forgets a further place.
func (c *Catalog) RemovePlace(name string) error {
	_, err := c.db.Exec(`DELETE FROM places WHERE name=?`, name)
	return err
}
