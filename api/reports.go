package api

import "time"

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
	// Recovery is what trials of restores came to.
	Recovery []RecoveryRow `json:"recovery"`
	// Drills is what drills at this site came to.
	Drills []DrillRow `json:"drills"`
}

// DrillRow is what drills came to for one volume.
type DrillRow struct {
	Volume        string    `json:"volume"`
	Place         string    `json:"place" doc:"the site that would take it over"`
	Runbook       string    `json:"runbook"`
	Drills        int       `json:"drills" doc:"that came to an end by themselves"`
	Good          int       `json:"good" doc:"in which all was up, and no step failed"`
	WorstLoss     float64   `json:"worstLossSeconds" doc:"the age of the oldest newest state"`
	WorstTime     float64   `json:"worstTimeSeconds" doc:"until all was up"`
	LossObjective int64     `json:"lossObjectiveSeconds,omitempty" doc:"as the runbook has it now; 0: not said"`
	TimeObjective int64     `json:"timeObjectiveSeconds,omitempty"`
	LastAt        time.Time `json:"lastAt"`
	LastGood      bool      `json:"lastGood"`
}

// RecoveryRow is what trials of restores of one volume came to at one place.
type RecoveryRow struct {
	Volume           string    `json:"volume"`
	Place            string    `json:"place"`
	Trials           int       `json:"trials" doc:"of another site only the last one is known"`
	Good             int       `json:"good" doc:"in which every file came back as it was recorded"`
	WorstSeconds     int64     `json:"worstSeconds" doc:"all of the newest state, at the rate of the slowest trial"`
	LastSeconds      int64     `json:"lastSeconds"`
	LastAt           time.Time `json:"lastAt"`
	LastGood         bool      `json:"lastGood"`
	ObjectiveSeconds int64     `json:"objectiveSeconds" doc:"how long recovery may take; 0: not said"`
}

// ObjectiveRow is one volume at one place.
type ObjectiveRow struct {
	Volume             string     `json:"volume"`
	Place              string     `json:"place"`
	ObjectiveSeconds   int64      `json:"objectiveSeconds" doc:"0: none is set"`
	OnTargetSeconds    int64      `json:"onTargetSeconds"`
	LateSeconds        int64      `json:"lateSeconds"`
	PausedSeconds      int64      `json:"pausedSeconds"`
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
