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
	Console string    `json:"console,omitempty"`
}

// Volume is a thing to protect.
type Volume struct {
	Name          string            `json:"name"`
	Kind          string            `json:"kind" enum:"tree"`
	Origin        string            `json:"origin"`
	Path          string            `json:"path"`
	Labels        map[string]string `json:"labels"`
	Excludes      []string          `json:"excludes"`
	Added         time.Time         `json:"added"`
	Protected     bool              `json:"protected"`
	PausedSince   *time.Time        `json:"pausedSince,omitempty"`
	Protection    string            `json:"protection" enum:"on target,late,gap,unprotected,paused" doc:"in one word"`
	Sentence      string            `json:"sentence" doc:"the same, with its cause"`
	Policies      []string          `json:"policies"`
	Snapshots     int               `json:"snapshots"`
	InGrace       int               `json:"inGrace"`
	Newest        *time.Time        `json:"newest,omitempty" doc:"up to when the newest state here is known"`
	NextDue       *time.Time        `json:"nextDue,omitempty"`
	Places        []PlaceState      `json:"places"`
	LastFiles     int64             `json:"lastFiles"`
	LastBytes     int64             `json:"lastBytes"`
	RulesProposed string            `json:"rulesProposed,omitempty"`
	Offered       []string          `json:"offered,omitempty" doc:"where rules that wait to be accepted would keep less"`
}

// LabelsPut gives a volume other labels.
type LabelsPut struct {
	Labels map[string]string `json:"labels" doc:"all of them"`
	Accept bool              `json:"accept,omitempty" doc:"change them although snapshots expire by it"`
	DryRun bool              `json:"dryRun,omitempty" doc:"only tell what would change"`
}

// LabelChange is what other labels change.
type LabelChange struct {
	Volume  string            `json:"volume"`
	Labels  map[string]string `json:"labels"`
	Changes []string          `json:"changes" doc:"in sentences: policies and routes that choose it, or no longer"`
	Letting []Going           `json:"letting" doc:"snapshots that would expire at once"`
	Bytes   int64             `json:"bytes" doc:"stored bytes that would come back"`
}

// PlaceState is how a volume stands at one place.
type PlaceState struct {
	Place            string     `json:"place"`
	State            string     `json:"state" enum:"on target,late,unprotected,paused"`
	Newest           *time.Time `json:"newest,omitempty"`
	LagSeconds       int64      `json:"lagSeconds" doc:"age of the newest state there"`
	ObjectiveSeconds int64      `json:"objectiveSeconds,omitempty"`
	Backlog          int        `json:"backlog" doc:"snapshots still missing there"`
}

// VolumeAdd asks to protect a directory.
type VolumeAdd struct {
	Name     string            `json:"name"`
	Path     string            `json:"path"`
	Labels   map[string]string `json:"labels,omitempty"`
	Excludes []string          `json:"excludes,omitempty"`
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
	ID          string            `json:"id"`
	Volume      string            `json:"volume"`
	Place       string            `json:"place"`
	Origin      string            `json:"origin"`
	Term        int64             `json:"term"`
	Sequence    int64             `json:"sequence"`
	Taken       time.Time         `json:"taken"`
	Ended       time.Time         `json:"ended"`
	SeenUntil   *time.Time        `json:"seenUntil,omitempty"`
	Cause       string            `json:"cause"`
	Consistency string            `json:"consistency"`
	Files       int64             `json:"files"`
	Directories int64             `json:"directories"`
	Others      int64             `json:"others"`
	Bytes       int64             `json:"bytes"`
	Stored      int64             `json:"stored" doc:"bytes of new records that came with it"`
	RemarkCount int64             `json:"remarkCount"`
	Remarks     []Remark          `json:"remarks,omitempty"`
	Note        string            `json:"note,omitempty"`
	Labels      map[string]string `json:"labels"`
	State       string            `json:"state" enum:"kept,in grace"`
	GraceUntil  *time.Time        `json:"graceUntil,omitempty"`
	LetGo       string            `json:"letGo,omitempty"`
	Keep        string            `json:"keep,omitempty" doc:"reason of its keep mark"`
	KeepUntil   *time.Time        `json:"keepUntil,omitempty"`
	Reasons     []string          `json:"reasons"`
	Tier        string            `json:"tier,omitempty" doc:"the widest tier that keeps it"`
	Ends        *time.Time        `json:"ends,omitempty" doc:"about when the rules let it go"`
	Arrived     *time.Time        `json:"arrived,omitempty"`
	Referenced  int64             `json:"referenced,omitempty" doc:"stored bytes it needs"`
	Unique      int64             `json:"unique,omitempty" doc:"stored bytes that would come back if only it went"`
	FarPlaces   []string          `json:"farPlaces,omitempty"`
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

// Policy is a policy document and what it applies to.
type Policy struct {
	Name      string    `json:"name"`
	Body      string    `json:"body"`
	Version   int       `json:"version"`
	Changed   time.Time `json:"changed"`
	ChangedBy string    `json:"changedBy"`
	Paused    bool      `json:"paused"`
	Volumes   []string  `json:"volumes"`
	Take      []string  `json:"take"`
	Keep      []string  `json:"keep"`
}

// PolicyPut stores a document.
type PolicyPut struct {
	Body   string `json:"body"`
	Accept bool   `json:"accept,omitempty" doc:"store it although snapshots expire by it"`
}

// Problem is one thing wrong with a document.
type Problem struct {
	Line   int    `json:"line"`
	Column int    `json:"column"`
	What   string `json:"what"`
}

// PolicyCheck is the outcome of checking a document.
type PolicyCheck struct {
	Problems []Problem `json:"problems"`
	Hints    []Problem `json:"hints" doc:"what is allowed but hardly meant; line 0 is the document as a whole"`
	Name     string    `json:"name,omitempty"`
	Volumes  []string  `json:"volumes"`
	Letting  []Going   `json:"letting" doc:"snapshots that would expire at once under it"`
	Bytes    int64     `json:"bytes" doc:"stored bytes that would come back"`
}

// PolicyDiff compares a document with the stored one of its name.
type PolicyDiff struct {
	Version int         `json:"version" doc:"of the stored one; 0: there is none"`
	Lines   []DiffLine  `json:"lines"`
	Check   PolicyCheck `json:"check"`
}

// DiffLine is a line of one document or both.
type DiffLine struct {
	Sign string `json:"sign" enum:" ,-,+"`
	Text string `json:"text"`
}

// PolicyVersion is a document as it once was.
type PolicyVersion struct {
	Version   int       `json:"version"`
	Changed   time.Time `json:"changed"`
	ChangedBy string    `json:"changedBy"`
	Removed   bool      `json:"removed"`
	Body      string    `json:"body"`
}

// PreviewAsk asks what a policy would leave after some days: a document, or a stored one.
type PreviewAsk struct {
	Name        string `json:"name,omitempty"`
	Body        string `json:"body,omitempty"`
	Days        int    `json:"days,omitempty" doc:"90 when not given"`
	FromNothing bool   `json:"fromNothing,omitempty" doc:"as if no snapshot had been taken yet"`
}

// Preview is what a policy would leave.
type Preview struct {
	Name        string         `json:"name"`
	From        time.Time      `json:"from"`
	To          time.Time      `json:"to"`
	FromNothing bool           `json:"fromNothing"`
	Volumes     []string       `json:"volumes"`
	Sentences   []string       `json:"sentences"`
	Places      []PreviewPlace `json:"places"`
}

// PreviewPlace is the outlook for one place.
type PreviewPlace struct {
	Place   string     `json:"place"`
	Taken   int        `json:"taken" doc:"snapshots that come, of one volume"`
	Kept    int        `json:"kept" doc:"of one volume, at the end"`
	Oldest  *time.Time `json:"oldest,omitempty"`
	Ladder  []Rung     `json:"ladder" doc:"moments one could go back to at the end, newest first; at most 500"`
	Samples []Sample   `json:"samples" doc:"all volumes together"`
}

// Rung is a moment that is left, and why.
type Rung struct {
	Taken   time.Time `json:"taken"`
	Tier    string    `json:"tier,omitempty"`
	Reasons []string  `json:"reasons"`
}

// Sample is how much there is at an instant.
type Sample struct {
	At    time.Time `json:"at"`
	Count int       `json:"count"`
	Bytes int64     `json:"bytes"`
}

// Explanation says why something is as it is.
type Explanation struct {
	Volume    string      `json:"volume"`
	At        *time.Time  `json:"at,omitempty"`
	Sentences []string    `json:"sentences"`
	Snapshot  *Snapshot   `json:"snapshot,omitempty" doc:"what answers for the moment"`
	Answer    string      `json:"answer,omitempty" doc:"how exactly"`
	Gaps      []GapReport `json:"gaps"`
}

// GapReport is a due time at which no snapshot was taken.
type GapReport struct {
	Volume string    `json:"volume"`
	Due    time.Time `json:"due"`
	Cause  string    `json:"cause"`
}

// Objectives tells how well objectives were met in a stretch of time.
type Objectives struct {
	Site  string         `json:"site"`
	Since time.Time      `json:"since"`
	Until time.Time      `json:"until"`
	Rows  []ObjectiveRow `json:"rows"`
	Gaps  []GapReport    `json:"gaps"`
	Late  []LateStretch  `json:"late"`
}

// ObjectiveRow is one volume at one place.
type ObjectiveRow struct {
	Volume             string     `json:"volume"`
	Place              string     `json:"place"`
	ObjectiveSeconds   int64      `json:"objectiveSeconds" doc:"0: none is set"`
	OnTargetSeconds    int64      `json:"onTargetSeconds"`
	LateSeconds        int64      `json:"lateSeconds"`
	UnprotectedSeconds int64      `json:"unprotectedSeconds" doc:"no copy was there yet"`
	OnTargetPercent    float64    `json:"onTargetPercent"`
	LateCount          int        `json:"lateCount"`
	Gaps               int        `json:"gaps"`
	WorstAgeSeconds    int64      `json:"worstAgeSeconds"`
	WorstAt            *time.Time `json:"worstAt,omitempty"`
	States             int        `json:"states" doc:"snapshots and sightings that reached the place"`
}

// LateStretch is a time in which the newest state was older than the objective.
type LateStretch struct {
	Volume string    `json:"volume"`
	Place  string    `json:"place"`
	From   time.Time `json:"from"`
	To     time.Time `json:"to"`
	Open   bool      `json:"open" doc:"it went on at the end"`
}

// Space is what a volume's snapshots take at a place.
type Space struct {
	Volume      string   `json:"volume"`
	Place       string   `json:"place"`
	Snapshots   int      `json:"snapshots"`
	LiveBytes   int64    `json:"liveBytes" doc:"size of the files as they were last seen"`
	Newest      int64    `json:"newest" doc:"stored bytes that the newest snapshot needs"`
	Referenced  int64    `json:"referenced" doc:"stored bytes that all of them need"`
	Unique      int64    `json:"unique" doc:"stored bytes that come back if all of them go"`
	Shared      int64    `json:"shared" doc:"stored bytes that snapshots of other volumes need too"`
	AddedPerDay int64    `json:"addedPerDay" doc:"stored bytes, over the last 30 days"`
	Returns     []Return `json:"returns" doc:"what comes back by itself"`
	Sentences   []string `json:"sentences"`
}

// Return is what comes back by itself within some days, by the rules as they are.
type Return struct {
	Days      int       `json:"days"`
	By        time.Time `json:"by"`
	Snapshots int       `json:"snapshots"`
	Bytes     int64     `json:"bytes"`
}

// FreeAsk names snapshots.
type FreeAsk struct {
	IDs []string `json:"ids"`
}

// Freeing is what removing snapshots would give back.
type Freeing struct {
	Bytes      int64        `json:"bytes" doc:"if all of them go"`
	AloneBytes int64        `json:"aloneBytes" doc:"sum of what each gives back alone"`
	Sentence   string       `json:"sentence"`
	Snapshots  []FreeingOne `json:"snapshots"`
}

// FreeingOne is one of the snapshots to remove.
type FreeingOne struct {
	ID         string    `json:"id"`
	Volume     string    `json:"volume"`
	Taken      time.Time `json:"taken"`
	AloneBytes int64     `json:"aloneBytes"`
}

// KeepAsk marks a snapshot to be kept.
type KeepAsk struct {
	Reason string     `json:"reason"`
	Until  *time.Time `json:"until,omitempty"`
}

// Going is a snapshot on its way out.
type Going struct {
	ID     string    `json:"id"`
	Volume string    `json:"volume"`
	Place  string    `json:"place"`
	Taken  time.Time `json:"taken"`
	What   string    `json:"what" enum:"enters grace,is removed,stays"`
	Why    string    `json:"why"`
}

// PruneAsk asks to apply the rules now.
type PruneAsk struct {
	Volume string `json:"volume,omitempty"`
}

// TokenAdd asks for a token.
type TokenAdd struct {
	Name string `json:"name"`
}

// PruneResult is what pruning did or would do.
type PruneResult struct {
	Going        []Going `json:"going"`
	EnterGrace   int     `json:"enterGrace"`
	Removed      int     `json:"removed"`
	Recalled     int     `json:"recalled"`
	RemovedBytes int64   `json:"removedBytes" doc:"stored bytes that a sweep gives back for the removed"`
	GraceBytes   int64   `json:"graceBytes" doc:"further bytes once those entering grace are removed too"`
	Held         string  `json:"held,omitempty"`
	DryRun       bool    `json:"dryRun"`
}

// Usage is what the store holds.
type Usage struct {
	Place       string        `json:"place"`
	Objects     int64         `json:"objects"`
	Packs       int           `json:"packs"`
	StoredBytes int64         `json:"storedBytes"`
	DeadBytes   int64         `json:"deadBytes"`
	Snapshots   int           `json:"snapshots"`
	FreeBytes   int64         `json:"freeBytes"`
	Volumes     []VolumeUsage `json:"volumes"`
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

// Peer is a paired site.
type Peer struct {
	Name      string     `json:"name"`
	Key       string     `json:"key"`
	Addresses []string   `json:"addresses"`
	Paired    time.Time  `json:"paired"`
	Seen      *time.Time `json:"seen,omitempty"`
}

// Invitation lets another site pair once.
type Invitation struct {
	Text string    `json:"text"`
	Ends time.Time `json:"ends"`
}

// PairAsk pairs with the site that made the invitation.
type PairAsk struct {
	Invitation string `json:"invitation"`
}

// PeerCheck is the outcome of testing a peer.
type PeerCheck struct {
	Name             string  `json:"name"`
	Address          string  `json:"address"`
	RoundTripSeconds float64 `json:"roundTripSeconds"`
	ClockSkewSeconds float64 `json:"clockSkewSeconds"`
	Sentence         string  `json:"sentence"`
}

// Route carries snapshots to another site.
type Route struct {
	Name         string            `json:"name"`
	To           string            `json:"to"`
	Labels       map[string]string `json:"labels,omitempty"`
	Names        []string          `json:"names,omitempty"`
	State        string            `json:"state" enum:"seeding,current,behind,waiting,paused,unreachable,refused"`
	Sentence     string            `json:"sentence"`
	Volumes      []RouteVolume     `json:"volumes"`
	LastOK       *time.Time        `json:"lastOk,omitempty"`
	FailingSince *time.Time        `json:"failingSince,omitempty"`
	NextTry      *time.Time        `json:"nextTry,omitempty"`
	LastError    string            `json:"lastError,omitempty"`
	SentBytes    int64             `json:"sentBytes"`
	SavedBytes   int64             `json:"savedBytes" doc:"stored bytes that did not have to be sent"`
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
	To     string            `json:"to"`
	Labels map[string]string `json:"labels,omitempty"`
	Names  []string          `json:"names,omitempty"`
}

// RestoreAsk asks to bring something back.
type RestoreAsk struct {
	Volume     string   `json:"volume"`
	Paths      []string `json:"paths,omitempty"`
	At         string   `json:"at" doc:"a moment (RFC 3339), latest, or a snapshot's id"`
	To         string   `json:"to,omitempty" doc:"directory on the site's host"`
	InPlace    bool     `json:"inPlace,omitempty"`
	OnConflict string   `json:"onConflict,omitempty" enum:"skip,replace,older,keep-both"`
	DryRun     bool     `json:"dryRun,omitempty"`
}

// RestoreResult is what a restore did, or with dryRun would do.
type RestoreResult struct {
	Snapshot    Snapshot `json:"snapshot"`
	Answer      string   `json:"answer"`
	Target      string   `json:"target"`
	Created     int64    `json:"created"`
	Replaced    int64    `json:"replaced"`
	Removed     int64    `json:"removed"`
	Skipped     int64    `json:"skipped"`
	Kept        int64    `json:"kept"`
	Adjusted    int64    `json:"adjusted"`
	Bytes       int64    `json:"bytes"`
	FreeBytes   int64    `json:"freeBytes"`
	Summary     string   `json:"summary" doc:"the counts in words, those that are not 0"`
	Acts        []Act    `json:"acts" doc:"the first of them"`
	Remarks     []Remark `json:"remarks"`
	RemarkCount int64    `json:"remarkCount"`
	Safety      string   `json:"safety,omitempty" doc:"the safety snapshot taken first"`
	DryRun      bool     `json:"dryRun"`
}

// Act is one thing that a restore does.
type Act struct {
	Path string `json:"path"`
	What string `json:"what"`
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

// Over reports whether the run has ended.
func (r *Run) Over() bool { return r.State != "queued" && r.State != "running" }

// Progress of a run.
type Progress struct {
	Phase          string  `json:"phase,omitempty"`
	DoneBytes      int64   `json:"doneBytes"`
	TotalBytes     int64   `json:"totalBytes,omitempty"`
	Files          int64   `json:"files"`
	BytesPerSecond float64 `json:"bytesPerSecond,omitempty"`
	SecondsLeft    float64 `json:"secondsLeft,omitempty"`
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
	Running   []Run      `json:"running"`
	Coming    []Coming   `json:"coming"`
	Usage     Usage      `json:"usage"`
}

// Sentence says one thing and what to do about it.
type Sentence struct {
	Text    string `json:"text"`
	Weight  string `json:"weight" enum:"calm,look,act"`
	Next    string `json:"next,omitempty" doc:"the next step, in words"`
	Command string `json:"command,omitempty" doc:"the command that does it"`
	Link    string `json:"link,omitempty" doc:"the console's page for it"`
}

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

// Token lets a client in.
type Token struct {
	Name string     `json:"name"`
	Made time.Time  `json:"made"`
	Used *time.Time `json:"used,omitempty"`
	Text string     `json:"text,omitempty" doc:"shown once"`
}
