package api

import "time"

// The states of a failover or a drill.
const (
	FailoverRunning   = "running"
	FailoverWaiting   = "waiting" // for a person
	FailoverUp        = "up"      // a drill, until it is taken away
	FailoverStopped   = "stopped" // a step failed after this site had become active: it can go on
	FailoverDone      = "done"
	FailoverFailed    = "failed"
	FailoverCancelled = "cancelled"
)

// The states of a step.
const (
	StepToDo    = "to do"
	StepRunning = "running"
	StepWaiting = "waiting" // for a person
	StepDone    = "done"
	StepFailed  = "failed"
	StepSkipped = "passed over" // it failed, and the runbook goes on
)

// Authority is who takes a volume's snapshots and serves it, and since when.
type Authority struct {
	Volume   string            `json:"volume"`
	Origin   string            `json:"origin" doc:"the site that its history began at"`
	Active   string            `json:"active" doc:"takes its snapshots and serves it; (not known) where in doubt"`
	Here     bool              `json:"here" doc:"this site is the active one"`
	Term     int64             `json:"term" doc:"counts how often the active side has moved; 0: it never could"`
	Doubt    string            `json:"doubt,omitempty" enum:"put-back,two-sites,damaged,alone"`
	May      []string          `json:"may" doc:"the sites that may be active next"`
	Sentence string            `json:"sentence"`
	Records  []AuthorityRecord `json:"records" doc:"that the one which holds stands on, the newest first"`
	Back     *StandingBack     `json:"standingBack,omitempty"`
	Left     int               `json:"leftBehind" doc:"snapshots here that were left behind"`
}

// AuthorityRecord is a signed statement of who is active.
type AuthorityRecord struct {
	ID       string    `json:"id"`
	Term     int64     `json:"term"`
	Edition  int64     `json:"edition" doc:"counts the records of one term"`
	Site     string    `json:"site" doc:"active by it"`
	At       time.Time `json:"at" doc:"when it was signed, by the clock of who signed it"`
	From     string    `json:"from,omitempty" doc:"the snapshot from which the history goes on"`
	Why      string    `json:"why,omitempty"`
	SignedBy string    `json:"signedBy" doc:"the key"`
	May      []string  `json:"may" doc:"the sites that may sign the next"`
}

// StandingBack is how far this site has come with giving a volume up.
type StandingBack struct {
	Site      string     `json:"site" doc:"the one that is active"`
	Since     time.Time  `json:"since"`
	Hook      string     `json:"hook,omitempty" doc:"done, or why it failed"`
	Confirmed *time.Time `json:"confirmed,omitempty" doc:"since when it is certain that nobody writes here any more"`
	Kept      string     `json:"kept,omitempty" doc:"the snapshot of what nobody else had; or none"`
}

// LeftBehind is a snapshot without which another site took over.
type LeftBehind struct {
	Snapshot string    `json:"snapshot"`
	Volume   string    `json:"volume"`
	Site     string    `json:"site" doc:"that took it"`
	Term     int64     `json:"term"`
	Taken    time.Time `json:"taken"`
	Until    time.Time `json:"until" doc:"up to when it is kept"`
	Why      string    `json:"why"`
	Bytes    int64     `json:"bytes"`
}

// Runbook is how a site takes volumes over.
type Runbook struct {
	Name      string     `json:"name"`
	Body      string     `json:"body" doc:"the document, YAML"`
	Version   int        `json:"version"`
	Changed   time.Time  `json:"changed"`
	ChangedBy string     `json:"changedBy"`
	At        string     `json:"at" doc:"the site that takes over"`
	Volumes   []string   `json:"volumes"`
	Steps     []string   `json:"steps"`
	Readiness *Readiness `json:"readiness,omitempty"`
}

// RunbookPut is a runbook as it is stored.
type RunbookPut struct {
	Body string `json:"body" doc:"the document, YAML" maxLength:"65536"`
}

// Readiness is whether a runbook would work now.
type Readiness struct {
	Ready    bool         `json:"ready"`
	Sentence string       `json:"sentence"`
	Checks   []ReadyCheck `json:"checks"`
}

// ReadyCheck is one thing that a runbook needs.
type ReadyCheck struct {
	Code    string `json:"code"`
	About   string `json:"about" doc:"the volume, hook or step"`
	OK      bool   `json:"ok"`
	Text    string `json:"text"`
	Command string `json:"command,omitempty"`
}

// FailoverAsk says how a site takes over.
type FailoverAsk struct {
	Unplanned bool `json:"unplanned,omitempty" doc:"the other site does not answer, or is not to be asked"`
	DryRun    bool `json:"dryRun,omitempty" doc:"change nothing, only tell"`
	Anyway    bool `json:"anyway,omitempty" doc:"although the runbook is not ready"`
}

// The networks of drills.
const (
	NetworkOwn  = "own"
	NetworkHost = "host" // the service may not make one
)

// DrillAsk says how a drill is held.
type DrillAsk struct {
	At          *time.Time `json:"at,omitempty" doc:"as of when; none: the newest states"`
	KeepSeconds *int64     `json:"keepSeconds,omitempty" minimum:"0" doc:"how long it stays up; none: as its runbook says"`
}

// DrillReport is what a drill found.
type DrillReport struct {
	At            *time.Time `json:"at,omitempty" doc:"the moment that was asked for; none: the newest"`
	Version       int        `json:"version" doc:"of the runbook"`
	Cadence       bool       `json:"cadence,omitempty" doc:"nobody asked for it"`
	Dir           string     `json:"dir,omitempty" doc:"where its directories lie"`
	Network       string     `json:"network" enum:"own,host" doc:"host: the service may not make one apart"`
	Up            *time.Time `json:"up,omitempty" doc:"when all was up"`
	Until         *time.Time `json:"until,omitempty" doc:"up to when it stays up"`
	Gone          *time.Time `json:"gone,omitempty" doc:"when nothing of it was left"`
	Good          bool       `json:"good" doc:"all was up, and no step failed"`
	LossSeconds   float64    `json:"lossSeconds" doc:"age of the oldest state that it brought up"`
	TimeSeconds   float64    `json:"timeSeconds" doc:"from its beginning until all was up; 0: it never was"`
	LossObjective int64      `json:"lossObjectiveSeconds,omitempty"`
	TimeObjective int64      `json:"timeObjectiveSeconds,omitempty"`
	WithinLoss    bool       `json:"withinLoss" doc:"or no objective says, or a moment was asked for"`
	WithinTime    bool       `json:"withinTime"`
}

// Failover is one move of the active side.
type Failover struct {
	ID          string         `json:"id"`
	Kind        string         `json:"kind" enum:"planned,unplanned,drill,hand-over"`
	Runbook     string         `json:"runbook"`
	Peer        string         `json:"peer,omitempty" doc:"the other site"`
	State       string         `json:"state" enum:"running,waiting,up,stopped,done,failed,cancelled"`
	Began       time.Time      `json:"began"`
	Ended       *time.Time     `json:"ended,omitempty"`
	AskedBy     string         `json:"askedBy"`
	Run         int64          `json:"run,omitempty"`
	Steps       []FailoverStep `json:"steps"`
	Volumes     []FailoverLoss `json:"volumes"`
	DownSeconds float64        `json:"downSeconds,omitempty" doc:"for which nobody served"`
	Drill       *DrillReport   `json:"drill,omitempty"`
	Sentence    string         `json:"sentence"`
	Next        string         `json:"next,omitempty"`
	Command     string         `json:"command,omitempty"`
}

// FailoverStep is one step and how far it came.
type FailoverStep struct {
	Code    string     `json:"code"`
	Text    string     `json:"text"`
	State   string     `json:"state" enum:"to do,running,waiting,done,failed,passed over"`
	Began   *time.Time `json:"began,omitempty"`
	Seconds float64    `json:"seconds,omitempty"`
	Attempt int        `json:"attempt,omitempty"`
	Said    string     `json:"said,omitempty"`
}

// FailoverLoss is what of a volume is lost when a site takes over.
type FailoverLoss struct {
	Volume       string     `json:"volume"`
	Group        string     `json:"group,omitempty"`
	From         string     `json:"from,omitempty" doc:"the snapshot from which it goes on"`
	Taken        *time.Time `json:"taken,omitempty"`
	Place        string     `json:"place,omitempty" doc:"in a drill: the directory, or the name of the export"`
	Known        *time.Time `json:"known,omitempty" doc:"up to when it is known to have been as the snapshot has it"`
	LossSeconds  float64    `json:"lossSeconds" doc:"before the other site was last heard of, of which nothing arrived"`
	DoubtSeconds float64    `json:"doubtSeconds,omitempty" doc:"by which that may be wrong, as clocks differ"`
}

// Away is what of this site another one took over by a runbook, and could come home.
type Away struct {
	Runbook string    `json:"runbook"`
	Site    string    `json:"site" doc:"that is active of it"`
	Since   time.Time `json:"since"`
	Volumes []string  `json:"volumes"`
}
