package api

import "time"

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

// LabelsMany sets labels of many volumes, and takes others away.
type LabelsMany struct {
	Volumes []string          `json:"volumes" maxItems:"100000"`
	Set     map[string]string `json:"set,omitempty"`
	Drop    []string          `json:"drop,omitempty" doc:"keys; a volume without one is left as it is there"`
	Accept  bool              `json:"accept,omitempty" doc:"change them although snapshots expire by it"`
	DryRun  bool              `json:"dryRun,omitempty" doc:"only tell what would change"`
}

// LabelsChanged is what that changes, a volume each.
type LabelsChanged struct {
	Changes []LabelChange `json:"changes"`
}

// Policy is a policy document and what it applies to.
type Policy struct {
	Name        string    `json:"name"`
	Description string    `json:"description,omitempty" doc:"what people say of it"`
	Body        string    `json:"body"`
	Version     int       `json:"version"`
	Changed     time.Time `json:"changed"`
	ChangedBy   string    `json:"changedBy"`
	Paused      bool      `json:"paused"`
	Volumes     []string  `json:"volumes"`
	Take        []string  `json:"take"`
	Keep        []string  `json:"keep"`
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
	// Uncovered are those of this site that no policy would choose.
	Uncovered []string `json:"uncovered,omitempty" doc:"volumes of this site that no policy chooses with it"`
	Letting   []Going  `json:"letting" doc:"snapshots that would expire at once under it"`
	Bytes     int64    `json:"bytes" doc:"stored bytes that would come back"`
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
	By      string     `json:"by" doc:"the rules that keep them, in words"`
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

// RemoveAtOnce asks to remove snapshots without grace, with the sets that they are of: all of them, or none.
type RemoveAtOnce struct {
	Snapshots []string `json:"snapshots" minItems:"1" maxItems:"1000" doc:"ids, or unambiguous beginnings of them"`
	Type      string   `json:"type,omitempty" doc:"what a dry run says is to be typed"`
	DryRun    bool     `json:"dryRun,omitempty" doc:"only tell what would go"`
}

// RemovedAtOnce is what went without grace, or would.
type RemovedAtOnce struct {
	DryRun   bool     `json:"dryRun"`
	Going    []Going  `json:"going"`
	Bytes    int64    `json:"bytes" doc:"that a sweep gives back"`
	Type     string   `json:"type" doc:"what is to be typed: the volume's name, or how many volumes they are of"`
	StayAt   []string `json:"stayAt" doc:"sites to which they were carried"`
	Sentence string   `json:"sentence"`
}

// PruneAsk asks to apply the rules now.
type PruneAsk struct {
	Volume string `json:"volume,omitempty"`
}

// PruneResult is what pruning did or would do.
type PruneResult struct {
	Going        []Going `json:"going" doc:"the first 1000"`
	NotListed    int     `json:"notListed,omitempty" doc:"how many more there are"`
	EnterGrace   int     `json:"enterGrace"`
	Removed      int     `json:"removed"`
	Recalled     int     `json:"recalled"`
	RemovedBytes int64   `json:"removedBytes" doc:"stored bytes that a sweep gives back for the removed"`
	GraceBytes   int64   `json:"graceBytes" doc:"further bytes once those entering grace are removed too"`
	Held         string  `json:"held,omitempty"`
	DryRun       bool    `json:"dryRun"`
}

// PolicyExample is a policy to begin with, written for this site.
type PolicyExample struct {
	Name  string `json:"name"`
	Title string `json:"title"`
	Body  string `json:"body"`
}
