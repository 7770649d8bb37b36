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
	DiskCopy    = "copy"    // of a disk that another site serves: it can be read
)

// Disk is a block volume as it is served.
type Disk struct {
	Name          string       `json:"name"`
	SizeBytes     int64        `json:"sizeBytes"`
	BlockBytes    int64        `json:"blockBytes" doc:"what a snapshot stores of a change at least"`
	Image         string       `json:"image" doc:"the file that holds its bytes"`
	State         string       `json:"state" enum:"ready,in use,held,closed,failed,missing,copy"`
	Sentence      string       `json:"sentence"`
	ChangedBytes  int64        `json:"changedBytes" doc:"that the next snapshot reads"`
	UnfilledBytes int64        `json:"unfilledBytes,omitempty" doc:"at most these are read from a snapshot"`
	ArrivingFrom  string       `json:"arrivingFrom,omitempty" doc:"the site from which not all of it has come"`
	FilledAsOf    *time.Time   `json:"filledAsOf,omitempty" doc:"of a copy with an image: the snapshot that this is"`
	Holder        string       `json:"holder,omitempty" doc:"who may write"`
	Suspect       *time.Time   `json:"suspect,omitempty"`
	Clients       []DiskClient `json:"clients"`
	Socket        string       `json:"socket"`
	Address       string       `json:"address" doc:"NBD address for clients on the site's host"`
	Shared        bool         `json:"shared,omitempty" doc:"several clients may write at once"`
	Network       string       `json:"network,omitempty" doc:"where other hosts reach it; none: nowhere"`
	Hosts         []string     `json:"hosts,omitempty" doc:"the hosts that may open it over the network"`
}

// DiskClient is a connection to a disk.
type DiskClient struct {
	Host         string    `json:"host,omitempty" doc:"over the network; none: a process of the site's own host"`
	From         string    `json:"from,omitempty" doc:"the host's address"`
	Program      string    `json:"program"`
	Process      int64     `json:"process"`
	User         int64     `json:"user"`
	Since        time.Time `json:"since"`
	ReadBytes    int64     `json:"readBytes"`
	WrittenBytes int64     `json:"writtenBytes"`
	Flushes      int64     `json:"flushes"`
	Requests     int64     `json:"requests"`
	WaitedMicros int64     `json:"waitedMicros" doc:"what all requests took together, by a sample"`
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

// DiskShare says whether several clients may write to a disk at once.
type DiskShare struct {
	Shared bool `json:"shared"`
}

// DiskHost is a host that opens disks over the network.
type DiskHost struct {
	Name        string    `json:"name"`
	Disks       []string  `json:"disks" doc:"that it may open, with their snapshots"`
	Until       time.Time `json:"until" doc:"when its certificate ends"`
	Made        time.Time `json:"made"`
	MadeBy      string    `json:"madeBy"`
	Connections int       `json:"connections"`
	Address     string    `json:"address,omitempty" doc:"where this site serves disks over the network"`
}

// DiskAccess says which disks a host may open.
type DiskAccess struct {
	Disks []string `json:"disks,omitempty" doc:"these and no others; as it is when not given"`
	Renew bool     `json:"renew,omitempty" doc:"make another certificate; the one before is worth nothing then"`
}

// DiskAccessGiven is what a host may, and what it shows, when that was made now. The key is kept nowhere.
type DiskAccessGiven struct {
	Host        DiskHost `json:"host"`
	Authority   string   `json:"authority,omitempty" doc:"PEM, by which the host knows this site"`
	Certificate string   `json:"certificate,omitempty" doc:"PEM"`
	Key         string   `json:"key,omitempty" doc:"PEM"`
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

// DiskWrites tells where a disk was written between two snapshots that follow each other.
type DiskWrites struct {
	From         time.Time `json:"from"`
	To           time.Time `json:"to"`
	Snapshot     string    `json:"snapshot" doc:"the later one"`
	SizeBytes    int64     `json:"sizeBytes"`
	WrittenBytes int64     `json:"writtenBytes" doc:"that differ, in whole blocks"`
	Along        []int64   `json:"along" doc:"of them in each of 64 equal parts of the disk"`
}

// DiskRange is a stretch of a disk.
type DiskRange struct {
	Offset int64 `json:"offset"`
	Bytes  int64 `json:"bytes"`
}
