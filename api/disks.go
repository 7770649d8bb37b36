package api

import "time"

// The states of a disk.
const (
	DiskReady   = "ready"   // no client is connected
	DiskInUse   = "in use"  // clients are connected
	DiskHeld    = "held"    // for a client that left without saying so
	DiskClosed  = "closed"  // no client can open it
	DiskFailed  = "failed"  // a sync failed: it takes no writes
	DiskMissing = "missing" // it cannot be opened
)

// Disk is a block volume as it is served.
type Disk struct {
	Name         string       `json:"name"`
	SizeBytes    int64        `json:"sizeBytes"`
	BlockBytes   int64        `json:"blockBytes" doc:"what a snapshot stores of a change at least"`
	Image        string       `json:"image" doc:"the file that holds its bytes"`
	State        string       `json:"state" enum:"ready,in use,held,closed,failed,missing"`
	Sentence     string       `json:"sentence"`
	ChangedBytes int64        `json:"changedBytes" doc:"that the next snapshot reads"`
	Holder       string       `json:"holder,omitempty" doc:"who may write"`
	Suspect      *time.Time   `json:"suspect,omitempty"`
	Clients      []DiskClient `json:"clients"`
	Socket       string       `json:"socket"`
	Address      string       `json:"address" doc:"NBD address for clients on the site's host"`
}

// DiskClient is a connection to a disk.
type DiskClient struct {
	Program      string    `json:"program"`
	Process      int64     `json:"process"`
	User         int64     `json:"user"`
	Since        time.Time `json:"since"`
	ReadBytes    int64     `json:"readBytes"`
	WrittenBytes int64     `json:"writtenBytes"`
	Flushes      int64     `json:"flushes"`
}

// DiskGrow says how large a disk is to be.
type DiskGrow struct {
	SizeBytes int64 `json:"sizeBytes" minimum:"512" doc:"a multiple of 512, not smaller than it is"`
}

// DiskClose says what becomes of clients that are connected.
type DiskClose struct {
	Disconnect bool `json:"disconnect,omitempty" doc:"disconnect them; else closing is refused while there are any"`
}

// DiskOpen says what is known of an image that is another file than before.
type DiskOpen struct {
	Moved bool `json:"moved,omitempty"`
}

// DiskComparison tells in which bytes two moments of a disk differ.
type DiskComparison struct {
	From         ComparedSide `json:"from"`
	To           ComparedSide `json:"to"`
	SizeBytes    int64        `json:"sizeBytes" doc:"of the larger one"`
	BlockBytes   int64        `json:"blockBytes" doc:"in steps of which is compared"`
	DiffersBytes int64        `json:"differsBytes"`
	Ranges       []DiskRange  `json:"ranges" doc:"where, in order; of very many the first ten thousand"`
	Cut          bool         `json:"cut,omitempty" doc:"there are more ranges"`
	Along        []int64      `json:"along" doc:"bytes that differ in each of 64 equal parts of the disk"`
}

// DiskRange is a stretch of a disk.
type DiskRange struct {
	Offset int64 `json:"offset"`
	Bytes  int64 `json:"bytes"`
}
