package api

import "time"

// Alarm is something that needs a person.
type Alarm struct {
	ID         int64      `json:"id"`
	About      string     `json:"about"`
	Text       string     `json:"text"`
	Next       string     `json:"next,omitempty" doc:"the next step, in words"`
	Command    string     `json:"command,omitempty"`
	Link       string     `json:"link,omitempty" doc:"the console's page for it"`
	Since      time.Time  `json:"since"`
	Ended      *time.Time `json:"ended,omitempty"`
	MutedUntil *time.Time `json:"mutedUntil,omitempty" doc:"not sent out until then, but for volumes that join it"`
	Volumes    []string   `json:"volumes,omitempty" doc:"those that it is about, where it says the same of each"`
}

// AlarmList is alarms, newest first.
type AlarmList struct {
	Items    []Alarm           `json:"items"`
	Channels []string          `json:"channels" doc:"where alarms go"`
	Failing  map[string]string `json:"failing" doc:"last error, by channel that cannot be sent to"`
}

// AlarmMute keeps an alarm from being sent out.
type AlarmMute struct {
	Until time.Time `json:"until" doc:"a time that has passed ends it"`
}
