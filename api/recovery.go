package api

import "time"

// FindAsk says what to find in all snapshots of a volume.
type FindAsk struct {
	Pattern string    `query:"pattern" required:"true"`
	Since   time.Time `query:"since" doc:"there in a snapshot taken then or later"`
	Until   time.Time `query:"until" doc:"there in a snapshot taken then or earlier"`
	Deleted bool      `query:"deleted" doc:"only what the newest snapshot does not have"`
	MinSize int64     `query:"minSize" minimum:"0" doc:"bytes"`
	MaxSize int64     `query:"maxSize" minimum:"0" doc:"bytes; 0: no bound"`
	Kind    string    `query:"kind" enum:"file,directory,symlink" doc:"only these"`
	After   string    `query:"after" doc:"cursor"`
	Sites   bool      `query:"sites" doc:"ask other sites too, for what no snapshot here has; with the first page"`
	Limit   int       `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

// Find is what was found, the newest modified first.
type Find struct {
	Items     []Found          `json:"items"`
	Total     int              `json:"total" doc:"paths that match, those of other pages too"`
	Next      string           `json:"next,omitempty"`
	Snapshots int              `json:"snapshots" doc:"how many were searched"`
	LeftOut   []string         `json:"leftOut" doc:"snapshots that could not be read"`
	Elsewhere []FoundElsewhere `json:"elsewhere,omitempty" doc:"when other sites were asked too"`
}

// NamesRead tells how far the names of a volume are read, which the first search ever of it waits for.
type NamesRead struct {
	Volume   string `json:"volume"`
	Names    int64  `json:"names" doc:"read so far"`
	Snapshot int32  `json:"snapshot" doc:"the one that is read, from 1"`
	Of       int32  `json:"of" doc:"how many are to be read"`
}

// FindAllAsk asks for a search over all volumes.
type FindAllAsk struct {
	Pattern string    `query:"pattern" required:"true"`
	Since   time.Time `query:"since" doc:"there in a snapshot taken then or later"`
	Until   time.Time `query:"until" doc:"there in a snapshot taken then or earlier"`
	Deleted bool      `query:"deleted" doc:"only what the newest snapshot of its volume does not have"`
	MinSize int64     `query:"minSize" minimum:"0" doc:"bytes"`
	MaxSize int64     `query:"maxSize" minimum:"0" doc:"bytes; 0: no bound"`
	Kind    string    `query:"kind" enum:"file,directory,symlink" doc:"only these"`
	Behind  string    `query:"behind" doc:"go on behind this volume"`
	Limit   int       `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

// FindAll is what was found in all volumes, the newest modified first.
type FindAll struct {
	Items     []FoundIn   `json:"items"`
	Total     int         `json:"total" doc:"paths that match in what was searched"`
	Volumes   int         `json:"volumes" doc:"how many were searched"`
	Snapshots int         `json:"snapshots"`
	LeftOut   []LeftOutIn `json:"leftOut" doc:"snapshots that could not be read"`
	Next      string      `json:"next,omitempty" doc:"the last volume that was searched, when time was up"`
	Left      int         `json:"left,omitempty" doc:"volumes behind it"`
}

// FoundIn is a path of a volume.
type FoundIn struct {
	Volume string `json:"volume"`
	Found
}

// LeftOutIn is a snapshot of a volume that could not be read.
type LeftOutIn struct {
	Volume   string `json:"volume"`
	Snapshot string `json:"snapshot"`
}

// Located is a path of a host in a volume.
type Located struct {
	Volume string `json:"volume"`
	Path   string `json:"path" doc:"in the volume; empty is its top"`
	At     string `json:"at" doc:"where the volume lies, at the site that takes it"`
	Here   bool   `json:"here" doc:"this site takes it now"`
}

// FoundElsewhere is what another site found.
type FoundElsewhere struct {
	Site      string  `json:"site"`
	Silent    string  `json:"silent,omitempty" doc:"why it does not tell"`
	Snapshots int     `json:"snapshots" doc:"how many it searched"`
	Items     []Found `json:"items" doc:"paths that no snapshot here has"`
}

// Found is a path that at least one kept snapshot has.
type Found struct {
	Path      string    `json:"path"`
	Kind      string    `json:"kind"`
	Size      int64     `json:"size"`
	Modified  time.Time `json:"modified"`
	There     bool      `json:"there" doc:"the newest snapshot has it"`
	Versions  int       `json:"versions" doc:"different ones that can be brought back"`
	FirstSeen time.Time `json:"firstSeen" doc:"when the oldest kept snapshot with it was taken"`
	LastSeen  time.Time `json:"lastSeen" doc:"until when it was there as told here, as far as was looked"`
	Snapshot  string    `json:"snapshot" doc:"the newest that has it as told here"`
}

// Versions is what a path was over time, newest first. Snapshots that found it the same are
// one version.
type Versions struct {
	Path   string    `json:"path"`
	Items  []Version `json:"items"`
	More   bool      `json:"more" doc:"there are older ones; only the newest thousand are told"`
	Silent []string  `json:"silent,omitempty" doc:"other sites that were asked and do not tell, and why"`
}

// Version is a path between two moments.
type Version struct {
	What      string    `json:"what" enum:"first seen,changed,rights changed,back again,not there"`
	Since     time.Time `json:"since" doc:"when the first snapshot that has it so was taken"`
	Until     time.Time `json:"until" doc:"until when the last one was found unchanged"`
	Snapshots int       `json:"snapshots" doc:"that have it so"`
	Snapshot  string    `json:"snapshot" doc:"the newest of them"`
	Entry     *Entry    `json:"entry,omitempty"`
	Site      string    `json:"site,omitempty" doc:"the other site that has it; no snapshot here does"`
}

// Comparison is what differs between two moments of a volume.
type Comparison struct {
	Volume       string       `json:"volume"`
	With         string       `json:"with,omitempty" doc:"the volume that the second side is of, where it is another"`
	Path         string       `json:"path" doc:"below which was compared"`
	From         ComparedSide `json:"from"`
	To           ComparedSide `json:"to"`
	Changes      []Difference `json:"changes" doc:"in order of paths, the first thousand"`
	Counts       Differences  `json:"counts" doc:"of all"`
	AddedBytes   int64        `json:"addedBytes" doc:"sizes of files that came or changed, as they are after"`
	RemovedBytes int64        `json:"removedBytes" doc:"sizes of files that went or changed, as they were before"`
	Cut          bool         `json:"cut" doc:"there are more changes than are told"`
	Summary      string       `json:"summary"`
}

// ComparedSide is one of two moments; without a snapshot it is the volume as it is now.
type ComparedSide struct {
	At       time.Time `json:"at"`
	Snapshot string    `json:"snapshot,omitempty"`
	Answer   string    `json:"answer"`
}

// Differences counts differences by kind.
type Differences struct {
	Added    int64 `json:"added"`
	Removed  int64 `json:"removed"`
	Changed  int64 `json:"changed"`
	Renamed  int64 `json:"renamed"`
	Adjusted int64 `json:"adjusted" doc:"only owner, mode, attributes or time"`
}

// Difference is one path that differs.
type Difference struct {
	Path  string `json:"path"`
	What  string `json:"what" enum:"added,removed,changed,renamed,adjusted"`
	From  string `json:"from,omitempty" doc:"the path before, of what was renamed"`
	Below int64  `json:"below,omitempty" doc:"names right in a renamed directory"`
	Old   *Entry `json:"old,omitempty"`
	New   *Entry `json:"new,omitempty"`
}

// TextDifference is what differs between two versions of a text file.
type TextDifference struct {
	Path    string     `json:"path"`
	Lines   []TextLine `json:"lines" doc:"with three lines around each change"`
	Same    bool       `json:"same"`
	Refused string     `json:"refused,omitempty" doc:"why there is none: too large, or not text"`
}

// TextLine is a line of a difference.
type TextLine struct {
	What string `json:"what" enum:"same,added,removed,skipped"`
	Old  int    `json:"old,omitempty" doc:"its number before"`
	New  int    `json:"new,omitempty" doc:"its number after"`
	Text string `json:"text"`
}

// AsOf is what stands for a moment of a volume, site by site: this one, then the others in
// the order set.
type AsOf struct {
	Volume   string     `json:"volume"`
	At       time.Time  `json:"at"`
	Places   []Standing `json:"places"`
	Best     string     `json:"best,omitempty" doc:"the site whose snapshot is nearest to the moment; of equals the first"`
	Sentence string     `json:"sentence"`
}

// Standing is what stands for a moment at one site.
type Standing struct {
	Site         string     `json:"site"`
	Silent       string     `json:"silent,omitempty" doc:"why the site does not tell"`
	Snapshots    int        `json:"snapshots" doc:"that it has of the volume"`
	Snapshot     string     `json:"snapshot,omitempty"`
	Here         bool       `json:"here" doc:"this site has that snapshot too"`
	Taken        *time.Time `json:"taken,omitempty"`
	SeenUntil    *time.Time `json:"seenUntil,omitempty"`
	Answer       string     `json:"answer,omitempty" doc:"how exactly it stands for the moment"`
	OlderSeconds int64      `json:"olderSeconds" doc:"how much older than the moment it was last known to be so"`
	Bytes        int64      `json:"bytes"`
	Files        int64      `json:"files"`
	Seconds      int64      `json:"seconds,omitempty"`
}

// RecoveryOrder is in which order other sites are asked.
type RecoveryOrder struct {
	Sites []string `json:"sites"`
}

// MountAsk asks to show a volume's snapshots as a filesystem on the site's host.
type MountAsk struct {
	Volume string `json:"volume"`
	Dir    string `json:"dir" doc:"an empty directory below the site's roots"`
}

// Mount is a volume whose snapshots are shown as a filesystem.
type Mount struct {
	Volume string    `json:"volume"`
	Dir    string    `json:"dir"`
	Since  time.Time `json:"since"`
	By     string    `json:"by"`
}

// RecipePut is what a saved restore says.
type RecipePut struct {
	Restore RestoreAsk `json:"restore" doc:"its at may also be how long ago, such as -24h or -7d, counted when it runs"`
	Exact   bool       `json:"exact,omitempty"`
	When    string     `json:"when,omitempty"`
	Zone    string     `json:"zone,omitempty" doc:"time zone of the cadence; UTC when not given"`
	Check   string     `json:"check,omitempty"`
}

// Recipe is a saved restore.
type Recipe struct {
	Name string `json:"name"`
	RecipePut
	Sentence string     `json:"sentence"`
	Made     time.Time  `json:"made"`
	By       string     `json:"by"`
	NextDue  *time.Time `json:"nextDue,omitempty"`
	Runs     []Run      `json:"runs" doc:"the last ten, newest first"`
}

// TrialsPut says how restores are tried.
type TrialsPut struct {
	When  string `json:"when" doc:"a cadence, such as daily at 04:10; empty: not by themselves"`
	Zone  string `json:"zone,omitempty"`
	Files int    `json:"files,omitempty" minimum:"0" maximum:"10000"`
}

// Trials is how restores are tried, and what came of it.
type Trials struct {
	TrialsPut
	NextDue *time.Time `json:"nextDue,omitempty"`
	Last    []Trial    `json:"last" doc:"of each volume, here and at sites that tell"`
}

// Trial is a restore that was tried: random files of a random moment, brought back to a
// scratch directory and compared with what was recorded.
type Trial struct {
	Volume        string    `json:"volume"`
	Site          string    `json:"site"`
	At            time.Time `json:"at" doc:"when it was tried"`
	Run           int64     `json:"run,omitempty"`
	Snapshot      string    `json:"snapshot"`
	Taken         time.Time `json:"taken" doc:"the moment that was tried"`
	Files         int64     `json:"files"`
	Bytes         int64     `json:"bytes"`
	Seconds       float64   `json:"seconds" doc:"from choosing to verified, without the verification"`
	WholeSeconds  int64     `json:"wholeSeconds"`
	ObjectiveSecs int64     `json:"objectiveSeconds" doc:"how long recovery may take by the policy; 0: not said"`
	Good          bool      `json:"good" doc:"every file came back as it was recorded"`
	Sentence      string    `json:"sentence"`
}

// TrialAsk asks for a trial now.
type TrialAsk struct {
	Volume string `json:"volume,omitempty" doc:"none: every volume that has snapshots here"`
}

// CloneAsk asks for a writable copy of a snapshot.
type CloneAsk struct {
	Name   string    `json:"name"`
	Volume string    `json:"volume"`
	At     string    `json:"at,omitempty" doc:"a moment (RFC 3339), latest, or a snapshot's id"`
	Dir    string    `json:"dir,omitempty" doc:"an empty directory below the site's roots; of a disk none"`
	Until  time.Time `json:"until,omitzero" doc:"when it is discarded by itself; none: by hand"`
}

// ClonesAsk asks for several clones of one snapshot, which are numbered.
type ClonesAsk struct {
	CloneAsk
	Count int `json:"count" minimum:"1" maximum:"50"`
}

// Clone is a writable copy of a snapshot that shares its data.
type Clone struct {
	Name     string     `json:"name"`
	Volume   string     `json:"volume"`
	Snapshot string     `json:"snapshot" doc:"that it stands on, and that stays as long as it does"`
	Taken    time.Time  `json:"taken"`
	Dir      string     `json:"dir"`
	Address  string     `json:"address,omitempty" doc:"of a disk: where clients on the site's host open it"`
	Made     time.Time  `json:"made"`
	By       string     `json:"by"`
	Until    *time.Time `json:"until,omitempty"`
	Drill    string     `json:"drill,omitempty" doc:"with which it goes"`
	There    bool       `json:"there" doc:"it is mounted"`
	Changed  int64      `json:"changed"`
	Bytes    int64      `json:"bytes" doc:"that it takes itself"`
	Used     time.Time  `json:"used" doc:"when something in it was changed last"`
	Sentence string     `json:"sentence"`
}

// CloneToVolume says where a clone becomes a volume of its own.
type CloneToVolume struct {
	To string `json:"to,omitempty" doc:"a new or empty directory below the site's roots; of a disk none"`
}

// GroupRestoreAsk asks to bring all volumes of a group back to one common instant.
type GroupRestoreAsk struct {
	Group      string `json:"group"`
	At         string `json:"at,omitempty" doc:"a moment (RFC 3339), latest, or the id of a snapshot of a set"`
	To         string `json:"to,omitempty" doc:"directory on the site's host, in which each volume gets one of its name"`
	InPlace    bool   `json:"inPlace,omitempty"`
	Disconnect bool   `json:"disconnect,omitempty" doc:"disconnect the clients that have its disks open"`
	OnConflict string `json:"onConflict,omitempty" enum:"skip,replace,older,keep-both"`
}

// GroupRestore is what bringing a group back does.
type GroupRestore struct {
	Group   string          `json:"group"`
	Taken   time.Time       `json:"taken,omitzero" doc:"the common instant"`
	Volumes []RestoreResult `json:"volumes" doc:"of a plan, what each would do"`
	Runs    []int64         `json:"runs,omitempty" doc:"of a run, the restores of the volumes"`
	Lacking []string        `json:"lacking" doc:"volumes of the group that the set does not have"`
}

// FoundPut says where the filesystem or another tool leaves point-in-time directories of a
// volume.
type FoundPut struct {
	Pattern string `json:"pattern"`
	Zone    string `json:"zone,omitempty" doc:"time zone of these times; UTC when not given"`
}

// FoundList is what others left of a volume, newest first.
type FoundList struct {
	Volume string `json:"volume"`
	FoundPut
	Items []FoundMoment `json:"items"`
}

// FoundMoment is one point-in-time directory.
type FoundMoment struct {
	Name     string    `json:"name"`
	Path     string    `json:"path"`
	Taken    time.Time `json:"taken"`
	Snapshot string    `json:"snapshot,omitempty" doc:"as which it is in the volume's history"`
	CanTake  bool      `json:"canTake" doc:"it can be taken into the history: it is older than the first snapshot proper"`
}

// FoundTake names what is to be taken into a volume's history.
type FoundTake struct {
	Names []string `json:"names,omitempty" doc:"none: all that can be"`
}

// FoundBrowse is a directory of what others left, as it is on the disk.
type FoundBrowse struct {
	Name    string    `json:"name"`
	Path    string    `json:"path"`
	Taken   time.Time `json:"taken"`
	Entries []Entry   `json:"entries"`
	More    bool      `json:"more" doc:"only the first thousand names are told"`
}
