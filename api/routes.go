package api

import "time"

// Peer is a paired site.
type Peer struct {
	Name        string     `json:"name"`
	Description string     `json:"description,omitempty" doc:"what people say of it"`
	Key         string     `json:"key"`
	Addresses   []string   `json:"addresses"`
	Paired      time.Time  `json:"paired"`
	Seen        *time.Time `json:"seen,omitempty"`
	Up          bool       `json:"up" doc:"there is a line to it at present"`
	Grants      Grants     `json:"grants" doc:"what it may do here"`
	Granted     Grants     `json:"granted" doc:"what this site may do there, as it last said"`
	Pace        Pace       `json:"pace"`
	Release     string     `json:"release,omitempty" doc:"the build that it runs, as it last said"`
	FreeBytes   int64      `json:"freeBytes,omitempty" doc:"room where its store lies, as it last said"`
	Line        *Line      `json:"line,omitempty" doc:"by which it is spoken to at present"`
	// OwnAddresses are those that were added here.
	OwnAddresses []string `json:"ownAddresses,omitempty" doc:"where people here say that it is reached, tried first"`
}

// Line is how a paired site is spoken to.
type Line struct {
	Address string `json:"address" doc:"the other end"`
	Dialled bool   `json:"dialled" doc:"by this site; else by the other one"`
}

// SiteAddress is an address of a paired site, as it answered just now.
type SiteAddress struct {
	Address string   `json:"address"`
	Own     bool     `json:"own" doc:"it was added here; else the site says it of itself"`
	InUse   bool     `json:"inUse" doc:"the line that all share goes by it"`
	Seconds float64  `json:"seconds,omitempty" doc:"until a new line by it stood, with both keys proven"`
	Trouble string   `json:"trouble,omitempty" doc:"why there is none by it"`
	Routes  []string `json:"routes,omitempty" doc:"that go by it alone"`
}

// SiteAddressesSet says where a site is reached, beside what it says of itself.
type SiteAddressesSet struct {
	Addresses []string `json:"addresses" maxItems:"16" doc:"host:port, tried first and in this order; none: only its own"`
}

// CarryChosen asks to bring chosen snapshots to a paired site, or an attached place, once.
type CarryChosen struct {
	Snapshots []string   `json:"snapshots" minItems:"1" maxItems:"10000"`
	To        string     `json:"to" doc:"paired site or attached place"`
	Keep      bool       `json:"keep,omitempty" doc:"kept there until a person there lets them go"`
	KeepUntil *time.Time `json:"keepUntil,omitempty" doc:"kept there until then, whatever the rules there say"`
	Reason    string     `json:"reason,omitempty" doc:"why, shown there beside the keep mark" maxLength:"300"`
}

// ChosenCarried is what a run that sends snapshots comes to.
type ChosenCarried struct {
	Snapshots int   `json:"snapshots" doc:"that are there now"`
	SentBytes int64 `json:"sentBytes"`
	Kept      int   `json:"kept" doc:"that are kept there as was asked"`
}

// Incoming is what another site brings of one volume, or what is taken from it.
type Incoming struct {
	From        string     `json:"from" doc:"the site that brings it"`
	Volume      string     `json:"volume" doc:"its name here"`
	State       string     `json:"state" enum:"coming,at rest,refused,no line"`
	Up          bool       `json:"up" doc:"there is a line to that site at present"`
	Copies      int        `json:"copies" doc:"snapshots of it that arrived and are here"`
	LastArrived *time.Time `json:"lastArrived,omitempty"`
	Newest      *time.Time `json:"newest,omitempty" doc:"when the newest of them was taken"`
	Snapshot    string     `json:"snapshot,omitempty" doc:"that is coming now"`
	Since       *time.Time `json:"since,omitempty" doc:"since when it comes, or when the last one was refused"`
	DoneBytes   int64      `json:"doneBytes,omitempty" doc:"of the one that is coming"`
	Rate        int64      `json:"rate,omitempty" doc:"bytes a second, over the last half minute"`
	Refused     string     `json:"refused,omitempty" doc:"why the last one was not taken in"`
}

// Grants are what one site lets another do.
type Grants struct {
	Offer     bool              `json:"offer" doc:"bring snapshots into the place"`
	Read      bool              `json:"read" doc:"take snapshots of the chosen volumes"`
	See       bool              `json:"see" doc:"look at everything but contents"`
	Configure bool              `json:"configure" doc:"do what a person there may do"`
	TakeOver  bool              `json:"takeOver" doc:"become the active site of the volumes there"`
	Labels    map[string]string `json:"labels,omitempty" doc:"volumes that may be read; none chosen: all"`
	Names     []string          `json:"names,omitempty"`
	Words     string            `json:"words"`
}

// GrantAsk lets a paired site do more.
type GrantAsk struct {
	Grants     []string          `json:"grants" enum:"offer,read,see,configure,take-over"`
	Labels     map[string]string `json:"labels,omitempty" doc:"of the volumes that may be read"`
	Names      []string          `json:"names,omitempty" doc:"volumes that may be read"`
	QuotaBytes int64             `json:"quotaBytes,omitempty" doc:"cap on what its snapshots need here"`
}

// RevokeAsk takes grants back, or ends the pairing when none is named.
type RevokeAsk struct {
	Grants []string `json:"grants,omitempty" enum:"offer,read,see,configure,take-over"`
}

// Pace is the weekly calendar of limits towards a peer, shared by its routes.
type Pace struct {
	Lines     []string   `json:"lines"`
	Zone      string     `json:"zone,omitempty"`
	Now       string     `json:"now,omitempty" doc:"the present limit in words"`
	NowBytes  int64      `json:"nowBytes" doc:"bytes a second; -1: no limit, 0: nothing is sent"`
	Next      *time.Time `json:"next,omitempty" doc:"when another limit holds"`
	SentBytes int64      `json:"sentBytes" doc:"towards the peer since the service started"`
}

// PaceWeek is a pace by the hours of a week.
type PaceWeek struct {
	Hours []int64 `json:"hours" doc:"168 limits in bytes a second, from Monday 00:00 in the calendar's zone; -1: none"`
}

// PaceSet replaces a peer's calendar.
type PaceSet struct {
	Lines []string `json:"lines"`
	Zone  string   `json:"zone,omitempty" doc:"UTC when not given"`
}

// Invitation lets another site pair once.
type Invitation struct {
	Text string    `json:"text"`
	Ends time.Time `json:"ends"`
}

// PairAsk pairs with the site that made the invitation.
type PairAsk struct {
	Invitation string   `json:"invitation"`
	Grants     []string `json:"grants,omitempty" enum:"offer,read,see,configure,take-over,nothing"`
}

// InviteAsk makes an invitation.
type InviteAsk struct {
	Grants []string `json:"grants,omitempty" enum:"offer,read,see,configure,take-over,nothing"`
}

// PeerCheck is the outcome of testing a peer.
type PeerCheck struct {
	Name             string  `json:"name"`
	Address          string  `json:"address"`
	RoundTripSeconds float64 `json:"roundTripSeconds"`
	ClockSkewSeconds float64 `json:"clockSkewSeconds"`
	Sentence         string  `json:"sentence"`
}

// Route carries snapshots between this site and another.
type Route struct {
	Name        string            `json:"name"`
	Description string            `json:"description,omitempty" doc:"what people say of it"`
	From        string            `json:"from"`
	To          string            `json:"to"`
	Pull        bool              `json:"pull" doc:"this site takes the snapshots, nobody brings them"`
	Labels      map[string]string `json:"labels,omitempty"`
	Names       []string          `json:"names,omitempty"`
	Terms       RouteTerms        `json:"terms"`

	State string `json:"state" enum:"seeding,current,behind,waiting,standing by,paused,no line,refused"`

	Sentence     string        `json:"sentence"`
	Volumes      []RouteVolume `json:"volumes"`
	PausedSince  *time.Time    `json:"pausedSince,omitempty"`
	LastOK       *time.Time    `json:"lastOk,omitempty"`
	FailingSince *time.Time    `json:"failingSince,omitempty"`
	NextTry      *time.Time    `json:"nextTry,omitempty"`
	NextDue      *time.Time    `json:"nextDue,omitempty" doc:"of a route with a cadence"`
	LastError    string        `json:"lastError,omitempty"`
	Cause        string        `json:"cause,omitempty" doc:"of LastError: pace, detached, unreachable, full, failed"`
	SentBytes    int64         `json:"sentBytes"`
	SavedBytes   int64         `json:"savedBytes" doc:"stored bytes that did not have to be sent"`
	Rate         int64         `json:"rate" doc:"bytes a second at present; 0 when no run goes"`
	Ends         *time.Time    `json:"ends,omitempty" doc:"about when the present run is done"`
}

// RouteTerms are what a route says beside its volumes and its ends.
type RouteTerms struct {
	When          string   `json:"when,omitempty"`
	Zone          string   `json:"zone,omitempty" doc:"of the cadence and the pace; UTC when not given"`
	Carry         string   `json:"carry,omitempty"`
	Priority      int      `json:"priority,omitempty" minimum:"0" maximum:"9"`
	Cap           string   `json:"cap,omitempty" doc:"a rate of its own, such as 5 Mbit/s"`
	Pace          []string `json:"pace,omitempty" doc:"the same by time of week, in zone, such as nothing on sat-sun"`
	WithinSeconds int64    `json:"withinSeconds,omitempty" minimum:"0"`
	By            string   `json:"by,omitempty" doc:"the one address of the other site that it goes by; empty: any"`
	Onward        bool     `json:"onward,omitempty" doc:"carry volumes of other sites on as well"`
	In            []string `json:"in,omitempty" doc:"paths that it carries; all when none is given"`
	Out           []string `json:"out,omitempty" doc:"paths that it leaves out"`
	Standby       string   `json:"standby,omitempty" enum:",exact,additive"`
	Tell          string   `json:"tell,omitempty" enum:",lag,counts,nothing"`
}

// RouteVolume is how far a route is with one volume.
type RouteVolume struct {
	Volume     string     `json:"volume"`
	Newest     *time.Time `json:"newest,omitempty"`
	LagSeconds int64      `json:"lagSeconds"`
	Backlog    int        `json:"backlog"`
	Carried    int        `json:"carried"`
}

// RouteAdd opens a route.
type RouteAdd struct {
	Name   string            `json:"name"`
	To     string            `json:"to,omitempty" doc:"carry to this site, or"`
	From   string            `json:"from,omitempty" doc:"take from this site"`
	Labels map[string]string `json:"labels,omitempty"`
	Names  []string          `json:"names,omitempty"`
	Terms  RouteTerms        `json:"terms,omitempty"`
}

// RouteEdit replaces what a route chooses and its terms; what is not given stays.
type RouteEdit struct {
	Labels map[string]string `json:"labels,omitempty"`
	Names  []string          `json:"names,omitempty"`
	Terms  *RouteTerms       `json:"terms,omitempty"`
}

// RouteCheck is what a route would do, found out before it is opened.
type RouteCheck struct {
	Sentence string   `json:"sentence"`
	Volumes  []string `json:"volumes"`
	Bytes    int64    `json:"bytes" doc:"stored bytes of the first copy, at most"`
	Seconds  int64    `json:"seconds" doc:"that it takes at the pace, without one at 100 MiB a second"`
}

// Traffic is how a route went.
type Traffic struct {
	Route      string    `json:"route"`
	At         time.Time `json:"at"`
	Seconds    float64   `json:"seconds"`
	Offered    int64     `json:"offered"`
	Sent       int64     `json:"sent"`
	LagSeconds int64     `json:"lagSeconds"`
	Backlog    int64     `json:"backlog"`
}

// CrateWrite asks to write snapshots into a file on the site's host.
type CrateWrite struct {
	Path      string   `json:"path"`
	Route     string   `json:"route,omitempty" doc:"what it still has to carry"`
	Snapshots []string `json:"snapshots,omitempty"`
	PartBytes int64    `json:"partBytes,omitempty" doc:"split into parts of about this size"`
	Seal      bool     `json:"seal,omitempty" doc:"only the site at the route's other end can open it"`
}

// CrateWritten is what was written.
type CrateWritten struct {
	Paths     []string `json:"paths"`
	Snapshots int      `json:"snapshots"`
	Bytes     int64    `json:"bytes"`
}

// CrateLoad asks to take in the parts of a crate, in the order given.
type CrateLoad struct {
	Paths []string `json:"paths"`
}

// Crate is what a file of a crate says.
type Crate struct {
	ID        string          `json:"id"`
	Site      string          `json:"site"`
	For       string          `json:"for,omitempty"`
	Made      time.Time       `json:"made"`
	Part      int             `json:"part"`
	Snapshots []CrateSnapshot `json:"snapshots"`
	Missing   []string        `json:"missing" doc:"snapshots that it builds on and that are not here"`
}

// CrateSnapshot is a snapshot in a crate.
type CrateSnapshot struct {
	ID     string    `json:"id"`
	Volume string    `json:"volume"`
	Taken  time.Time `json:"taken"`
	Bytes  int64     `json:"bytes"`
	Here   bool      `json:"here" doc:"it is here already"`
}

// StandbySet says how a copy is laid out.
type StandbySet struct {
	Mode string `json:"mode" enum:"exact,additive,none"`
	Dir  string `json:"dir,omitempty" doc:"where; below the standby directory of site.yaml when not given"`
}

// Standby is a copy laid out ready for use.
type Standby struct {
	Mode     string     `json:"mode" enum:"exact,additive"`
	Dir      string     `json:"dir"`
	AsOf     *time.Time `json:"asOf,omitempty" doc:"when the state was taken that lies there"`
	Error    string     `json:"error,omitempty" doc:"why it was not brought up to date"`
	Sentence string     `json:"sentence"`
}

// Place is a further place of a site, such as a disk that comes and goes.
type Place struct {
	Name        string `json:"name"`
	Path        string `json:"path"`
	Attached    bool   `json:"attached"`
	Snapshots   int    `json:"snapshots"`
	StoredBytes int64  `json:"storedBytes"`
	FreeBytes   int64  `json:"freeBytes"`
}

// PlaceAttach opens a further place.
type PlaceAttach struct {
	Path string `json:"path" doc:"directory on the site's host, below its roots"`
}

// SetUp pairs with several sites and opens routes to them in one go.
type SetUp struct {
	Invitations []string          `json:"invitations"`
	Grants      []string          `json:"grants,omitempty" enum:"offer,read,see,configure,take-over,nothing"`
	Labels      map[string]string `json:"labels,omitempty" doc:"of the volumes to carry"`
	Names       []string          `json:"names,omitempty" doc:"of the volumes to carry"`
	Terms       RouteTerms        `json:"terms,omitempty"`
	DryRun      bool              `json:"dryRun,omitempty"`
}

// SetUpResult is what was done, or would be.
type SetUpResult struct {
	Sentence string      `json:"sentence"`
	Failed   int         `json:"failed"`
	Steps    []SetUpStep `json:"steps"`
}

// SetUpStep is one thing that was done.
type SetUpStep struct {
	Site   string `json:"site"`
	Text   string `json:"text"`
	Failed bool   `json:"failed,omitempty"`
}

// OutletAdd opens an outlet: a directory at a machine that does not run the service.
type OutletAdd struct {
	Name    string            `json:"name"`
	To      string            `json:"to" doc:"sftp://USER@HOST/DIR; each volume lies in a directory of its name there"`
	HostKey string            `json:"hostKey,omitempty" doc:"SHA256:…; empty: refused, and told which it shows"`
	Labels  map[string]string `json:"labels,omitempty" doc:"of the volumes; all must match"`
	Names   []string          `json:"names,omitempty" doc:"volumes by name"`
	Cap     string            `json:"cap,omitempty" doc:"the most that is sent, such as 5 MiB/s"`
}

// Outlet is a directory at a machine that does not run the service, where the newest states of volumes lie as files.
type Outlet struct {
	Name         string            `json:"name"`
	To           string            `json:"to"`
	HostKey      string            `json:"hostKey" doc:"fingerprint of the key that the machine must show"`
	Labels       map[string]string `json:"labels,omitempty"`
	Names        []string          `json:"names,omitempty"`
	Cap          string            `json:"cap,omitempty"`
	State        string            `json:"state" enum:"current,behind,seeding,waiting,no line,refused,paused"`
	Sentence     string            `json:"sentence"`
	PausedSince  *time.Time        `json:"pausedSince,omitempty"`
	LastOK       *time.Time        `json:"lastOk,omitempty"`
	FailingSince *time.Time        `json:"failingSince,omitempty"`
	NextTry      *time.Time        `json:"nextTry,omitempty"`
	LastError    string            `json:"lastError,omitempty"`
	Cause        string            `json:"cause,omitempty" enum:",unreachable,refused,failed"`
	Volumes      []OutletVolume    `json:"volumes"`
	Disks        []string          `json:"disks,omitempty" doc:"volumes that it chooses and that are no files"`
}

// OutletVolume is what lies at an outlet of one volume.
type OutletVolume struct {
	Volume   string     `json:"volume"`
	Snapshot string     `json:"snapshot,omitempty" doc:"that lies there"`
	AsOf     *time.Time `json:"asOf,omitempty" doc:"when that was taken"`
	Since    *time.Time `json:"since,omitempty" doc:"since when it lies there"`
	Verified *time.Time `json:"verified,omitempty" doc:"when all of it was last read back"`
	Behind   bool       `json:"behind" doc:"there is a newer one here"`
	Error    string     `json:"error,omitempty"`
}

// OutletLook asks which key a machine shows.
type OutletLook struct {
	To string `json:"to" doc:"sftp://USER@HOST/DIR"`
}

// OutletHostKey is the key that a machine shows.
type OutletHostKey struct {
	HostKey string `json:"hostKey" doc:"its fingerprint, SHA256:…"`
}

// OutletKey is what lets this site in at other machines.
type OutletKey struct {
	Line string `json:"line" doc:"for the file authorized_keys of the user there"`
}
