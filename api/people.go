package api

import "time"

// Person is someone who signs in with a password.
type Person struct {
	Name   string        `json:"name"`
	Role   string        `json:"role" enum:"administrator,operator,auditor,file owner"`
	UID    *uint32       `json:"uid,omitempty" doc:"who a file owner is on the files"`
	GIDs   []uint32      `json:"gids" doc:"the groups of that user, the main one first"`
	Grants []FolderGrant `json:"grants" doc:"what a file owner may see"`
	Made   time.Time     `json:"made"`
}

// FolderGrant is what a file owner may see of a volume.
type FolderGrant struct {
	Volume string   `json:"volume"`
	Paths  []string `json:"paths" doc:"folders from the volume's top; an empty one is the whole volume"`
}

// PersonAdd asks to let someone sign in.
type PersonAdd struct {
	Name     string   `json:"name"`
	Role     string   `json:"role" enum:"administrator,operator,auditor,file owner"`
	Password string   `json:"password" doc:"10 to 200 bytes"`
	UID      *uint32  `json:"uid,omitempty"`
	GIDs     []uint32 `json:"gids,omitempty"`
}

// PersonChange asks to change a person; what is not given stays.
type PersonChange struct {
	Role     string   `json:"role,omitempty" enum:"administrator,operator,auditor,file owner"`
	Password string   `json:"password,omitempty"`
	UID      *uint32  `json:"uid,omitempty"`
	GIDs     []uint32 `json:"gids,omitempty"`
}

// FolderGrantAsk asks to let a file owner see folders, or no longer.
type FolderGrantAsk struct {
	Volume string   `json:"volume"`
	Paths  []string `json:"paths,omitempty" doc:"none: the whole volume"`
	End    bool     `json:"end,omitempty" doc:"take the grant back"`
}

// Me is who asks.
type Me struct {
	Name   string        `json:"name"`
	Role   string        `json:"role"`
	Person bool          `json:"person" doc:"one with a password"`
	Grants []FolderGrant `json:"grants" doc:"of a file owner"`
	Site   string        `json:"site"`
	Now    time.Time     `json:"now"`
	Times  Times         `json:"times"`
}

// Times is how times are shown to somebody.
type Times struct {
	Zone  string `json:"zone" doc:"an IANA name, such as Europe/Lisbon; empty: of the machine that shows them"`
	Dates string `json:"dates" enum:"year first,day first,month first"`
}

// OwnPassword asks to change the password of who asks.
type OwnPassword struct {
	Old string `json:"old"`
	New string `json:"new"`
}

// LedgerEntry is one act.
type LedgerEntry struct {
	N       int64     `json:"n"`
	At      time.Time `json:"at"`
	Who     string    `json:"who"`
	Role    string    `json:"role"`
	Via     string    `json:"via" doc:"socket, console, token, password, line or service"`
	Act     string    `json:"act" doc:"the operation of the API, or sign in"`
	About   string    `json:"about"`
	Outcome string    `json:"outcome,omitempty" doc:"empty: it was let begin; else how it was refused or failed"`
	Sum     string    `json:"sum" doc:"BLAKE3-256 over the sum before and the entry"`
}

// LedgerProof is what verifying the ledger came to.
type LedgerProof struct {
	Whole     bool            `json:"whole"`
	Entries   int64           `json:"entries"`
	Head      string          `json:"head" doc:"the last sum"`
	BrokenAt  int64           `json:"brokenAt,omitempty"`
	Sentence  string          `json:"sentence"`
	Witnesses []LedgerWitness `json:"witnesses"`
}

// LedgerWitness is a paired site that remembers what the ledger came to.
type LedgerWitness struct {
	Site    string `json:"site"`
	Entries int64  `json:"entries" doc:"that it saw; 0: none yet"`
	Silent  string `json:"silent,omitempty" doc:"why it does not tell"`
}
