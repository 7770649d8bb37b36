// Package api holds the shapes of the service's API: what requests and answers look
// like as JSON. Times are RFC 3339 with zone, sizes are bytes, durations are seconds
// and named so.
package api

import "time"

// Site describes the service that answers.
type Site struct {
	Name    string    `json:"name"`
	Key     string    `json:"key" doc:"Ed25519 public key, hexadecimal"`
	Now     time.Time `json:"now"`
	Zone    string    `json:"zone"`
	Roots   []string  `json:"roots" doc:"directories that may be read and written"`
	Listen  string    `json:"listen"`
	Peers   string    `json:"peerListen"`
	Held    string    `json:"held,omitempty" doc:"why nothing is removed at present"`
	Console string    `json:"console,omitempty" doc:"where browsers on the site's host find it"`
	Release string    `json:"release" doc:"the build that it runs: the day and the commit it was made from, or unknown"`
}

// SignInLink is an address of the console that signs in once.
type SignInLink struct {
	Address string    `json:"address"`
	Until   time.Time `json:"until" doc:"when it signs in no more"`
	Ends    time.Time `json:"ends" doc:"when whoever came by it has to sign in anew"`
}

// Volume is a thing to protect.
type Volume struct {
	Name          string            `json:"name"`
	Kind          string            `json:"kind" enum:"tree,block"`
	Origin        string            `json:"origin"`
	Active        string            `json:"active" doc:"the site that takes its snapshots now"`
	Path          string            `json:"path"`
	Labels        map[string]string `json:"labels"`
	Excludes      []string          `json:"excludes"`
	Added         time.Time         `json:"added"`
	Protected     bool              `json:"protected"`
	PausedSince   *time.Time        `json:"pausedSince,omitempty"`
	Protection    string            `json:"protection" enum:"on target,late,gap,unprotected,paused" doc:"in one word"`
	Sentence      string            `json:"sentence" doc:"the same, with its cause"`
	Cause         string            `json:"cause,omitempty" doc:"why it is not on target, as a code"`
	CauseAt       string            `json:"causeAt,omitempty" doc:"the place or site at which"`
	Policies      []string          `json:"policies"`
	Snapshots     int               `json:"snapshots"`
	InGrace       int               `json:"inGrace"`
	Standby       *Standby          `json:"standby,omitempty" doc:"where the copy lies ready for use"`
	Doubt         string            `json:"doubt,omitempty"`
	OutOfTurn     int               `json:"outOfTurn,omitempty"`
	Newest        *time.Time        `json:"newest,omitempty" doc:"up to when the newest state here is known"`
	NextDue       *time.Time        `json:"nextDue,omitempty"`
	Places        []PlaceState      `json:"places"`
	LastFiles     int64             `json:"lastFiles"`
	LastBytes     int64             `json:"lastBytes"`
	RulesProposed string            `json:"rulesProposed,omitempty"`
	Group         string            `json:"group,omitempty" doc:"the group that it is snapshotted with"`
	Following     string            `json:"following,omitempty"`
	Offered       []string          `json:"offered,omitempty" doc:"where rules that wait to be accepted would keep less"`
}

// PlaceState is how a volume stands at one place.
type PlaceState struct {
	Place            string     `json:"place"`
	State            string     `json:"state" enum:"on target,late,unprotected,paused"`
	Newest           *time.Time `json:"newest,omitempty"`
	LagSeconds       int64      `json:"lagSeconds" doc:"age of the newest state there"`
	ObjectiveSeconds int64      `json:"objectiveSeconds,omitempty"`
	Backlog          int        `json:"backlog" doc:"snapshots still missing there"`
	Told             *time.Time `json:"told,omitempty"`
}

// VolumeAdd asks to protect a directory, or to make a disk.
type VolumeAdd struct {
	Name     string            `json:"name"`
	Path     string            `json:"path,omitempty" doc:"the directory; none: a disk is made"`
	Labels   map[string]string `json:"labels,omitempty"`
	Excludes []string          `json:"excludes,omitempty"`

	SizeBytes  int64  `json:"sizeBytes,omitempty"`
	BlockBytes int64  `json:"blockBytes,omitempty"`
	Image      string `json:"image,omitempty"`
	Import     string `json:"import,omitempty"`

	DryRun bool `json:"dryRun,omitempty" doc:"of a directory: only look what is there"`
}

// HostDirectory is a directory of the host, as far as it is looked at to choose from.
type HostDirectory struct {
	Path    string      `json:"path"`
	Volume  string      `json:"volume,omitempty" doc:"that protects it"`
	Entries []HostEntry `json:"entries" doc:"the largest first"`
	More    bool        `json:"more,omitempty" doc:"there are more than are told"`
}

// HostEntry is a name in a directory of the host.
type HostEntry struct {
	Path    string `json:"path"`
	Name    string `json:"name"`
	Dir     bool   `json:"dir"`
	Mount   bool   `json:"mount,omitempty" doc:"another filesystem is mounted there"`
	Closed  bool   `json:"closed,omitempty" doc:"it cannot be read by the service"`
	Files   int64  `json:"files"`
	Bytes   int64  `json:"bytes"`
	AtLeast bool   `json:"atLeast,omitempty" doc:"not all of it was looked at"`
	Volume  string `json:"volume,omitempty" doc:"that protects it"`
	Holds   int    `json:"holds,omitempty" doc:"volumes somewhere below it"`
}

// Uncovered is what this host has that no volume protects.
type Uncovered struct {
	Directories []HostEntry  `json:"directories" doc:"below the roots, the largest first"`
	Loose       []LooseFiles `json:"loose" doc:"files beside protected directories"`
	Filesystems []Filesystem `json:"filesystems" doc:"that are mounted outside the roots"`
	More        bool         `json:"more,omitempty" doc:"there are more than are told"`
}

// LooseFiles are files that lie in a directory of which only parts are protected.
type LooseFiles struct {
	Path  string `json:"path"`
	Files int64  `json:"files"`
	Bytes int64  `json:"bytes"`
}

// Filesystem is one that is mounted on the host.
type Filesystem struct {
	Path      string `json:"path"`
	Kind      string `json:"kind"`
	UsedBytes int64  `json:"usedBytes"`
}

// ProtectUncovered asks to protect directories that nothing protects, each as a volume named after it.
type ProtectUncovered struct {
	Paths  []string          `json:"paths,omitempty" doc:"none: all of them" maxItems:"1000"`
	Labels map[string]string `json:"labels,omitempty"`
}

// UncoveredProtected is what became of that.
type UncoveredProtected struct {
	Added   []VolumeFound `json:"added"`
	Refused []RefusedPath `json:"refused"`
}

// RefusedPath is a directory that could not be protected.
type RefusedPath struct {
	Path string `json:"path"`
	Why  string `json:"why"`
}

// VolumeChange changes a volume; what is not given stays.
type VolumeChange struct {
	Path     *string   `json:"path,omitempty" doc:"where it lies from now on"`
	Excludes *[]string `json:"excludes,omitempty" doc:"all that is left out"`
	Accept   bool      `json:"accept,omitempty" doc:"although nearly nothing is left of it"`
	DryRun   bool      `json:"dryRun,omitempty" doc:"only look"`
}

// VolumeFound is what adding a volume found out.
type VolumeFound struct {
	Volume          Volume   `json:"volume"`
	Files           int64    `json:"files"`
	Directories     int64    `json:"directories"`
	Others          int64    `json:"others"`
	Bytes           int64    `json:"bytes"`
	Filesystem      string   `json:"filesystem"`
	Mounts          []string `json:"mounts" doc:"other filesystems below, which are not entered"`
	Unreadable      []string `json:"unreadable"`
	UnreadableCount int64    `json:"unreadableCount"`
	FirstNeeds      int64    `json:"firstNeeds" doc:"most bytes that the first snapshot can need"`
	StoreFree       int64    `json:"storeFree"`
	Warnings        []string `json:"warnings"`
}

// Snapshot is one copy of a volume's state at this site.
type Snapshot struct {
	ID        string     `json:"id"`
	Volume    string     `json:"volume"`
	Place     string     `json:"place"`
	Origin    string     `json:"origin"`
	Term      int64      `json:"term"`
	Sequence  int64      `json:"sequence"`
	Taken     time.Time  `json:"taken"`
	Ended     time.Time  `json:"ended"`
	SeenUntil *time.Time `json:"seenUntil,omitempty" doc:"up to when it was found unchanged"`
	// WatchedUntil is up to when no change was told at any time, beyond being looked at.
	WatchedUntil *time.Time        `json:"watchedUntil,omitempty" doc:"up to when nothing changed at any time"`
	Cause        string            `json:"cause"`
	Consistency  string            `json:"consistency"`
	Group        string            `json:"group,omitempty" doc:"the group whose set it is of"`
	SetID        string            `json:"setId,omitempty" doc:"what the snapshots of one set have in common"`
	Files        int64             `json:"files"`
	Directories  int64             `json:"directories"`
	Others       int64             `json:"others"`
	Bytes        int64             `json:"bytes"`
	Stored       int64             `json:"stored" doc:"bytes of new records that came with it"`
	RemarkCount  int64             `json:"remarkCount"`
	Remarks      []Remark          `json:"remarks,omitempty"`
	Note         string            `json:"note,omitempty"`
	Labels       map[string]string `json:"labels"`
	State        string            `json:"state" enum:"kept,in grace"`
	GraceUntil   *time.Time        `json:"graceUntil,omitempty"`
	LetGo        string            `json:"letGo,omitempty"`
	LetGoCause   string            `json:"letGoCause,omitempty" doc:"of what is in grace: rules, hand, cap, room"`
	Keep         string            `json:"keep,omitempty" doc:"reason of its keep mark"`
	KeepUntil    *time.Time        `json:"keepUntil,omitempty"`
	OwnEnd       *time.Time        `json:"ownEnd,omitempty" doc:"until when one taken by hand was asked to stay"`
	Reasons      []string          `json:"reasons"`
	Tier         string            `json:"tier,omitempty" doc:"the widest tier that keeps it"`
	Ends         *time.Time        `json:"ends,omitempty" doc:"about when the rules let it go"`
	Arrived      *time.Time        `json:"arrived,omitempty"`
	OutOfTurn    string            `json:"outOfTurn,omitempty" doc:"why it stands for nothing here until it is admitted"`
	Referenced   int64             `json:"referenced,omitempty" doc:"stored bytes it needs"`
	Unique       int64             `json:"unique,omitempty" doc:"stored bytes that would come back if only it went"`
	Part         string            `json:"part,omitempty"`
	FarPlaces    []string          `json:"farPlaces,omitempty"`
}

// Admit names snapshots that arrived out of turn and are to count; none: all of the volume.
type Admit struct {
	Snapshots []string `json:"snapshots,omitempty"`
}

// Remark tells of one path.
type Remark struct {
	Path string `json:"path"`
	What string `json:"what"`
}

// SnapshotTake asks for a snapshot by hand.
type SnapshotTake struct {
	Note      string            `json:"note,omitempty"`
	Labels    map[string]string `json:"labels,omitempty"`
	KeepUntil *time.Time        `json:"keepUntil,omitempty"`
}

// SnapshotChange changes what is noted with a snapshot; what is not given stays.
type SnapshotChange struct {
	Note      *string           `json:"note,omitempty"`
	Set       map[string]string `json:"set,omitempty" doc:"labels"`
	Drop      []string          `json:"drop,omitempty" doc:"keys of labels"`
	KeepUntil *time.Time        `json:"keepUntil,omitempty" doc:"the own end of one that was taken by hand"`
}

// SnapshotsTake asks for snapshots of many volumes, chosen by any of these.
type SnapshotsTake struct {
	Volumes []string          `json:"volumes,omitempty" doc:"by name"`
	Policy  string            `json:"policy,omitempty" doc:"those that it chooses"`
	Labels  map[string]string `json:"labels,omitempty" doc:"those that have all of these"`
	Due     bool              `json:"due,omitempty" doc:"those without a snapshot, with a gap, or too old here"`
	Take    SnapshotTake      `json:"take"`
}

// SnapshotsTaken are the runs that take them.
type SnapshotsTaken struct {
	Runs    []Run      `json:"runs"`
	Refused []NotTaken `json:"refused"`
}

// NotTaken is a volume of which no snapshot is taken.
type NotTaken struct {
	Volume string `json:"volume"`
	Why    string `json:"why"`
}

// Page is a part of a list; Next is the cursor of the following part.
type Page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next,omitempty"`
}

// Entry is a name in a snapshot's directory.
type Entry struct {
	Name     string    `json:"name" doc:"as UTF-8; bytes that are not are written as %XX"`
	Kind     string    `json:"kind"`
	Mode     string    `json:"mode"`
	UID      uint32    `json:"uid"`
	GID      uint32    `json:"gid"`
	Modified time.Time `json:"modified"`
	Size     int64     `json:"size"`
	Target   string    `json:"target,omitempty"`
	Entries  int64     `json:"entries,omitempty" doc:"names in a directory"`
}

// Browse is a directory as of a moment.
type Browse struct {
	Volume   string   `json:"volume"`
	Path     string   `json:"path"`
	Snapshot Snapshot `json:"snapshot"`
	Answer   string   `json:"answer" doc:"how exactly the snapshot stands for the moment"`
	Entry    *Entry   `json:"entry,omitempty" doc:"when the path is not a directory"`
	Entries  []Entry  `json:"entries"`
	Next     string   `json:"next,omitempty"`
}

// TokenAdd asks for a token.
type TokenAdd struct {
	Name   string `json:"name"`
	Person string `json:"person,omitempty" doc:"whose it is; when not given it may do what administrators may"`
	// Until is when it ends by itself; none: when it is removed.
	Until *time.Time `json:"until,omitempty" doc:"when it ends by itself; none: when it is removed"`
}

// Usage is what the store holds.
type Usage struct {
	Place         string        `json:"place"`
	Objects       int64         `json:"objects"`
	Packs         int           `json:"packs"`
	StoredBytes   int64         `json:"storedBytes"`
	DeadBytes     int64         `json:"deadBytes"`
	Snapshots     int           `json:"snapshots"`
	FreeBytes     int64         `json:"freeBytes"`
	Volumes       []VolumeUsage `json:"volumes"`
	BallastHeld   int64         `json:"ballastHeld" doc:"bytes set aside for snapshots alone"`
	BallastWanted int64         `json:"ballastWanted" doc:"what of the ballast the store does not use yet"`
	Caps          []Cap         `json:"caps"`
	Forecast      Forecast      `json:"forecast"`
}

// VolumeUsage is what one volume's snapshots take.
type VolumeUsage struct {
	Volume     string `json:"volume"`
	Snapshots  int    `json:"snapshots"`
	Referenced int64  `json:"referenced"`
	Unique     int64  `json:"unique" doc:"what would come back if all of them went"`
}

// SweepAsk asks for a sweep.
type SweepAsk struct {
	Settle bool `json:"settle,omitempty" doc:"also pack settled data tighter"`
}

// RestoreAsk asks to bring something back.
type RestoreAsk struct {
	Volume     string   `json:"volume"`
	Paths      []string `json:"paths,omitempty"`
	At         string   `json:"at,omitempty" doc:"a moment (RFC 3339), latest, or a snapshot's id"`
	To         string   `json:"to,omitempty" doc:"directory on the site's host"`
	InPlace    bool     `json:"inPlace,omitempty"`
	Into       string   `json:"into,omitempty"`
	OnConflict string   `json:"onConflict,omitempty" enum:"skip,replace,older,keep-both"`
	DryRun     bool     `json:"dryRun,omitempty"`
	Disconnect bool     `json:"disconnect,omitempty"`
	Anew       bool     `json:"anew,omitempty"`
	Found      string   `json:"found,omitempty"`
	From       string   `json:"from,omitempty"`
}

// RestoreMany asks to bring each of several snapshots into a directory of its own.
type RestoreMany struct {
	Snapshots []string `json:"snapshots" minItems:"1" maxItems:"100" doc:"ids, or unambiguous beginnings of them"`
	To        string   `json:"to" doc:"the directory on the site's host below which they lie"`
}

// RestoreResult is what a restore did, or with dryRun would do.
type RestoreResult struct {
	Snapshot    Snapshot   `json:"snapshot"`
	Answer      string     `json:"answer"`
	Target      string     `json:"target"`
	Created     int64      `json:"created"`
	Replaced    int64      `json:"replaced"`
	Removed     int64      `json:"removed"`
	Skipped     int64      `json:"skipped"`
	Kept        int64      `json:"kept"`
	Adjusted    int64      `json:"adjusted"`
	Failed      int64      `json:"failed" doc:"could not be restored; the remarks say why"`
	Bytes       int64      `json:"bytes"`
	FreeBytes   int64      `json:"freeBytes"`
	Summary     string     `json:"summary" doc:"the counts in words, those that are not 0"`
	Acts        []Act      `json:"acts" doc:"the first of them"`
	Remarks     []Remark   `json:"remarks"`
	RemarkCount int64      `json:"remarkCount"`
	Anew        bool       `json:"anew,omitempty" doc:"the disk could not be opened and began anew"`
	Safety      string     `json:"safety,omitempty" doc:"the safety snapshot taken first; undo goes back to it"`
	Before      *FarMoment `json:"before,omitempty" doc:"what a disk was as before, if another site has that"`
	DryRun      bool       `json:"dryRun"`
	Volume      string     `json:"volume"`
	InPlace     bool       `json:"inPlace"`
	Into        string     `json:"into,omitempty" doc:"the other volume that it was restored into"`
	Paths       []string   `json:"paths" doc:"what was asked for; none: the whole volume"`
	Beside      []string   `json:"beside" doc:"what was put beside what was there, the first ten thousand"`
	Recipe      string     `json:"recipe,omitempty" doc:"the saved restore that it carried out"`
	Undoes      int64      `json:"undoes,omitempty" doc:"the run that this one takes back"`
	From        string     `json:"from,omitempty" doc:"the other site that had the snapshot"`
	Arrives     int64      `json:"arrives,omitempty" doc:"the run that brings what a disk lacks from there"`
	FetchBytes  int64      `json:"fetchBytes,omitempty" doc:"that came from there; with dryRun, at most, unpacked"`
	GoesOnWith  int64      `json:"goesOnWith,omitempty" doc:"the run that the service's end cut short"`
	GoneOnBy    int64      `json:"goneOnBy,omitempty"`
}

// FarMoment is a snapshot that another site has.
type FarMoment struct {
	Site     string `json:"site"`
	Volume   string `json:"volume"`
	Snapshot string `json:"snapshot"`
}

// Act is one thing that a restore does.
type Act struct {
	Path string `json:"path"`
	What string `json:"what" doc:"create, replace, remove, skip, adjust; fail: it could not be restored"`
}

// Run is one execution of anything.
type Run struct {
	ID       int64      `json:"id"`
	Kind     string     `json:"kind"`
	Subject  string     `json:"subject"`
	State    string     `json:"state" enum:"queued,running,done,done with remarks,failed,cancelled"`
	Queued   time.Time  `json:"queued"`
	Began    *time.Time `json:"began,omitempty"`
	Ended    *time.Time `json:"ended,omitempty"`
	AskedBy  string     `json:"askedBy"`
	Outcome  string     `json:"outcome"`
	Progress Progress   `json:"progress"`
	Result   any        `json:"result,omitempty" doc:"what the run made, by kind"`
	Log      []LogLine  `json:"log,omitempty"`
}

// States of a run.
const (
	RunQueued          = "queued"
	RunRunning         = "running"
	RunDone            = "done"
	RunDoneWithRemarks = "done with remarks"
	RunFailed          = "failed"
	RunCancelled       = "cancelled"
)

// Over reports whether the run has ended.
func (r *Run) Over() bool { return r.State != RunQueued && r.State != RunRunning }

// Worked reports whether the run did what it was to do.
func (r *Run) Worked() bool { return r.State == RunDone || r.State == RunDoneWithRemarks }

// Progress of a run.
type Progress struct {
	Phase          string  `json:"phase,omitempty"`
	DoneBytes      int64   `json:"doneBytes"`
	TotalBytes     int64   `json:"totalBytes,omitempty"`
	Files          int64   `json:"files"`
	BytesPerSecond float64 `json:"bytesPerSecond,omitempty"`
	SecondsLeft    float64 `json:"secondsLeft,omitempty"`
}

// RunLifetime is how long the records of a kind of runs stay.
type RunLifetime struct {
	Kind    string     `json:"kind" doc:"others: all kinds of which nothing is said"`
	Keep    string     `json:"keep" doc:"such as 90 days"`
	Own     bool       `json:"own" doc:"it was said of this kind; else it is as of the others"`
	Records int64      `json:"records"`
	Oldest  *time.Time `json:"oldest,omitempty"`
}

// RunLifetimeSet says how long the records of a kind of runs stay.
type RunLifetimeSet struct {
	Kind   string `json:"kind" doc:"others: all kinds of which nothing is said"`
	Keep   string `json:"keep,omitempty" doc:"7 days to 100 years; empty: as the others, and of others 90 days"`
	DryRun bool   `json:"dryRun,omitempty"`
}

// RunLifetimeTold says what comes of a lifetime.
type RunLifetimeTold struct {
	Over     int64  `json:"over" doc:"records that are older"`
	Sentence string `json:"sentence"`
}

// LogLine is a line of a run's log.
type LogLine struct {
	At   time.Time `json:"at"`
	Text string    `json:"text"`
}

// Status is how everything stands.
type Status struct {
	Site      string     `json:"site"`
	Now       time.Time  `json:"now"`
	Sentences []Sentence `json:"sentences"`
	Volumes   []Volume   `json:"volumes"`
	Routes    []Route    `json:"routes"`
	Outlets   []Outlet   `json:"outlets"`
	Running   []Run      `json:"running"`
	Coming    []Coming   `json:"coming"`
	Usage     Usage      `json:"usage"`
}

// Sentence says one thing and what to do about it.
type Sentence struct {
	Text    string `json:"text"`
	Weight  string `json:"weight" enum:"calm,look,act"`
	About   string `json:"about,omitempty" doc:"what it is about, the same as long as it lasts"`
	Next    string `json:"next,omitempty" doc:"the next step, in words"`
	Command string `json:"command,omitempty" doc:"the command that does it"`
	Link    string `json:"link,omitempty" doc:"the console's page for it"`
	// Volumes are those that it is about, where it says the same of each.
	Volumes []string `json:"volumes,omitempty"`
}

// The causes for which a volume is not on target.
const (
	CauseNoPolicy     = "no policy"
	CauseNoCadence    = "no cadence"
	CauseNoSnapshot   = "no snapshot"
	CauseNoCopy       = "no copy"
	CauseLate         = "late"
	CauseLateCopy     = "late copy"
	CauseGap          = "gap"
	CausePaused       = "paused"
	CausePolicyPaused = "policy paused"
)

// Coming is something due.
type Coming struct {
	At     time.Time `json:"at"`
	Volume string    `json:"volume"`
	What   string    `json:"what"`
}

// Timeline is what the time ruler shows of one volume.
type Timeline struct {
	Volume  string      `json:"volume"`
	From    time.Time   `json:"from"`
	To      time.Time   `json:"to"`
	Lanes   []Lane      `json:"lanes"`
	Gaps    []GapSpan   `json:"gaps"`
	Planned []time.Time `json:"planned"`
}

// Lane is one place in a timeline.
type Lane struct {
	Place string     `json:"place"`
	Marks []TickMark `json:"marks"`
}

// TickMark is a snapshot on the ruler.
type TickMark struct {
	Keep      string     `json:"keep,omitempty" doc:"why it is marked to keep"`
	Why       string     `json:"why" doc:"why it stays, or goes"`
	ID        string     `json:"id"`
	Taken     time.Time  `json:"taken"`
	SeenUntil time.Time  `json:"seenUntil"`
	Tier      string     `json:"tier" doc:"widest tier, or by hand, safety, newest, none"`
	State     string     `json:"state"`
	Ends      *time.Time `json:"ends,omitempty"`
}

// GapSpan is a stretch without the snapshots that were due.
type GapSpan struct {
	From  time.Time `json:"from"`
	To    time.Time `json:"to"`
	Count int       `json:"count"`
	Cause string    `json:"cause"`
}

// CatalogueCopy is a copy of the catalogue that lies beside it.
type CatalogueCopy struct {
	Path  string    `json:"path"`
	Made  time.Time `json:"made"`
	Bytes int64     `json:"bytes"`
}

// Token lets a client in.
type Token struct {
	Name   string     `json:"name"`
	Person string     `json:"person,omitempty"`
	Made   time.Time  `json:"made"`
	Used   *time.Time `json:"used,omitempty"`
	Until  *time.Time `json:"until,omitempty" doc:"when it ends by itself; none: when it is removed"`
	Ended  bool       `json:"ended,omitempty" doc:"it lets nobody in any more"`
	Text   string     `json:"text,omitempty" doc:"shown once"`
}

// FirstSteps lead from an empty site to the first file that was brought back from another one.
type FirstSteps struct {
	Steps   []FirstStep `json:"steps"`
	Done    int         `json:"done" doc:"how many of them are done"`
	PutAway bool        `json:"putAway" doc:"a person wants to see them no more"`
	Offered bool        `json:"offered" doc:"the console shows them: some are to do, at a site that begins"`
}

// FirstStep is one of them.
type FirstStep struct {
	Code    string `json:"code" enum:"root,volume,policy,snapshot,site,route,copy,back"`
	Done    bool   `json:"done"`
	Text    string `json:"text"`
	Help    string `json:"help" doc:"what it is for and what to mind"`
	Command string `json:"command"`
	Link    string `json:"link,omitempty" doc:"the console's page for it"`
}

// FirstStepsSet hides the first steps, or shows them again.
type FirstStepsSet struct {
	PutAway bool `json:"putAway"`
}

// Description is what people say of a policy, a route, a group or a site.
type Description struct {
	Text string `json:"text" doc:"one line; empty: none" maxLength:"2000"`
}
