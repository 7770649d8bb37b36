package api

import "time"

// Hook is a command of the host that holds writers while they are read.
type Hook struct {
	Name           string `json:"name"`
	Command        string `json:"command"`
	TimeoutSeconds int64  `json:"timeoutSeconds"`
}

// GroupPut makes or changes a group.
type GroupPut struct {
	Volumes []string `json:"volumes" doc:"two or more, taken as one set"`
	Freeze  string   `json:"freeze,omitempty" doc:"hook that holds the writers before the volumes are read"`
	Thaw    string   `json:"thaw,omitempty" doc:"hook that lets them go afterwards, whatever happened"`
	Failing string   `json:"failing,omitempty" enum:"stop,spread"`
	// DropHooks says that a group which has hooks is meant to have none from now on.
	DropHooks bool `json:"dropHooks,omitempty"`
}

// GroupEdit changes a group and leaves what it does not name as it is.
type GroupEdit struct {
	Add       []string `json:"add,omitempty" doc:"volumes to take in"`
	Remove    []string `json:"remove,omitempty" doc:"volumes to take out"`
	Freeze    *string  `json:"freeze,omitempty"`
	Thaw      *string  `json:"thaw,omitempty"`
	Failing   *string  `json:"failing,omitempty" enum:"stop,spread"`
	DropHooks bool     `json:"dropHooks,omitempty" doc:"it is to have no hooks any more"`
}

// Group is volumes that are snapshotted as one set.
type Group struct {
	Name        string      `json:"name"`
	Description string      `json:"description,omitempty" doc:"what people say of it"`
	Volumes     []string    `json:"volumes"`
	Freeze      string      `json:"freeze,omitempty"`
	Thaw        string      `json:"thaw,omitempty"`
	Failing     string      `json:"failing,omitempty"`
	Waiting     []string    `json:"waiting" doc:"its volumes that are paused: the group waits for them"`
	Newest      []SetMember `json:"newest,omitempty" doc:"its newest set here"`
}

// SetMember is one snapshot of a set.
type SetMember struct {
	ID          string     `json:"id"`
	Volume      string     `json:"volume"`
	Taken       time.Time  `json:"taken"`
	SeenUntil   *time.Time `json:"seenUntil,omitempty"`
	Consistency string     `json:"consistency"`
}

// CapPut sets an upper bound.
type CapPut struct {
	Scope     string `json:"scope" enum:"volume,peer,place"`
	Name      string `json:"name"`
	Snapshots int    `json:"snapshots,omitempty" doc:"at most so many, those in grace aside"`
	Bytes     int64  `json:"bytes,omitempty" doc:"at most so many stored bytes that only they need"`
	Reached   string `json:"reached,omitempty" enum:"oldest goes,stop taking"`
}

// Cap is an upper bound with what there is.
type Cap struct {
	Scope        string `json:"scope"`
	Name         string `json:"name"`
	Snapshots    int    `json:"snapshots,omitempty"`
	Bytes        int64  `json:"bytes,omitempty"`
	Reached      string `json:"reached"`
	HasSnapshots int    `json:"hasSnapshots"`
	HasBytes     int64  `json:"hasBytes"`
	IsReached    bool   `json:"isReached"`
	Sentence     string `json:"sentence"`
}

// Forecast foresees when the store's filesystem is full.
type Forecast struct {
	StoredPerDay int64         `json:"storedPerDay" doc:"median change of the stored bytes"`
	FreePerDay   int64         `json:"freePerDay" doc:"median change of the free bytes, negative when they fall"`
	Full         *time.Time    `json:"full,omitempty" doc:"when it is full, or down to its headroom, going on so"`
	Sentence     string        `json:"sentence"`
	Samples      []UsageSample `json:"samples" doc:"of the last sixty days"`
}

// UsageSample is how full the store was.
type UsageSample struct {
	At     time.Time `json:"at"`
	Stored int64     `json:"stored"`
	Free   int64     `json:"free"`
}
