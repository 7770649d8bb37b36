package api

import "time"

// Today is what a person looks at first: how everything stands, in sentences, and the lines of the ruler. It is small
// whatever there is.
type Today struct {
	Site      string     `json:"site"`
	Now       time.Time  `json:"now"`
	Sentences []Sentence `json:"sentences"`
	Running   []Run      `json:"running"`
	Coming    []Coming   `json:"coming" doc:"what is due next, eight at most"`
	Usage     Usage      `json:"usage"`
	Volumes   int        `json:"volumes" doc:"how many there are"`
	By        string     `json:"by" doc:"what the lines are folded by"`
	Bys       []string   `json:"bys" doc:"what they can be folded by: state, label KEY for each key there is, nothing"`
	Folds     []Fold     `json:"folds"`
}

// Fold is a part of the ruler's lines under one heading.
type Fold struct {
	Key   string      `json:"key" doc:"the same as long as the fold lasts"`
	Label string      `json:"label" doc:"empty: all lines, without a heading"`
	Open  bool        `json:"open" doc:"whether it is open as long as nobody folds it; what needs a hand is"`
	Lines []RulerLine `json:"lines"`
}

// RulerLine is one volume of the ruler.
type RulerLine struct {
	Name   string `json:"name"`
	Places int    `json:"places" doc:"how many it lies at, or should"`
	State  string `json:"state,omitempty" enum:"late,gap,unprotected" doc:"of those alone that need a hand"`
}
