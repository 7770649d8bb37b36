package api

// Descriptions are those of fields and parameters that are too long to stand beside them, by type
// or operation and by name on the wire.
var Descriptions = map[string]map[string]string{
	"find": {
		"pattern": "a part of a name; or with * ? [a-z] a whole name, with slashes the last parts of a " +
			"path; upper and lower case are alike",
	},
	"CapPut": {
		"reached": "what is done when it is reached; stop taking when not given",
	},
	"Clone": {
		"changed": "names that were made, changed or removed in it, with the directories above them",
	},
	"Disk": {
		"suspect": "when a sync failed: what was written shortly before may be lost, until a person has looked",
	},
	"DiskOpen": {
		"moved": "the image is a copy of the file that the disk was written to, put there with the disk's records " +
			"while neither was in use; all of it is read by the next snapshot",
	},
	"DiskComparison": {
		"differsBytes": "in blocks that differ; to now, in blocks that were written since and may",
	},
	"FoundList": foundPut,
	"FoundPut":  foundPut,
	"GroupPut": {
		"failing":   "when the freeze fails: take nothing, or take a spread set nevertheless",
		"dropHooks": "the group's hooks are left out on purpose; without it they must be named again",
	},
	"InviteAsk": {
		"grants": "what the other site may do here; offer and see when none is named",
	},
	"ObjectiveRow": {
		"pausedSeconds": "paused, so that nothing was late; the percentage leaves it out",
	},
	"Pace": {
		"lines": "such as 20 Mbit/s between 07:00 and 19:00 on mon-fri; the first that holds counts",
	},
	"PairAsk": {
		"grants": "what the other site may do here; offer and see when none is named",
	},
	"PersonAdd": {
		"uid": "of a file owner; when not given, the user of that name on the site's host",
	},
	"PlaceState": {
		"told": "when the place, which takes snapshots for itself, last said so",
	},
	"Recipe":    recipePut,
	"RecipePut": recipePut,
	"RestoreAsk": {
		"into": "another volume of this site, at the same paths; a safety snapshot of it is taken first",
		"disconnect": "of a disk in place: disconnect the clients that have it open; they lose what " +
			"they did not flush, and must open it anew",
		"anew": "of a disk in place that cannot be opened: begin its image anew; what is left of it is put aside, and no " +
			"safety snapshot can be taken of it",
		"found": "instead of a snapshot: the name of a point-in-time directory that others left",
		"from": "the site whose snapshot to use; when not given this site, and if it has none for the " +
			"moment, the others in the order set",
	},
	"RestoreResult": {
		"goneOnBy": "the run that went on with this one, which the service's end cut short",
	},
	"RouteTerms": {
		"when": "nothing: after every snapshot (pull: every 15 minutes); on demand; or a cadence such " +
			"as daily at 22:00",
		"carry":         "nothing: what the rules there keep; all; or key=value of a snapshot's label",
		"priority":      "1 to 9: its share of the pace; 5 when not given",
		"withinSeconds": "a run must finish within; else there is an alarm",
		"standby":       "the far side lays copies out ready for use",
		"tell":          "what the source of a route that pulls learns; lag when not given",
	},
	"SetUp": {
		"grants": "what each of them may do here; offer and see when none is named",
	},
	"Snapshot": {
		"part": "which part of the volume it is, of a copy that a route chose",
	},
	"StandbySet": {
		"mode": "exact: as the newest copy; additive: what that does not have stays; none: no longer, " +
			"what is laid out stays where it is",
	},
	"Standing": {
		"seconds": "about how long it would take to bring all of it back here, at most, by restores " +
			"and routes of late; none: not known yet",
	},
	"Trial": {
		"wholeSeconds": "all of the newest state at that rate, by bytes or by files, whichever is longer",
	},
	"Trials":    trialsPut,
	"TrialsPut": trialsPut,
	"Version": {
		"what": "against the version before; a path is not there between two versions, or since the newest",
	},
	"Volume": {
		"doubt":     "why nothing is taken of it until a person confirms it; told of a single volume",
		"outOfTurn": "snapshots that arrived out of turn and stand for nothing until they are admitted",
		"following": "how the last snapshot found what changed: by the change journal, or by looking " +
			"at everything and why",
	},
	"VolumeAdd": {
		"sizeBytes": "of a disk: a multiple of 512; that of what is imported when not given",
		"import": "of a disk: what it begins with, a raw file below a root, nbd://HOST[:PORT]/EXPORT or " +
			"nbd+unix:///EXPORT?socket=PATH with a socket below a root; it is read before the answer",
		"blockBytes": "of a disk: what a snapshot stores of a change at least, a power of two from " +
			"4096 to 1 MiB; 65536 when not given",
		"image": "of a disk: the file that is to hold its bytes, below a root; with the site's own " +
			"data when not given",
	},
}

var foundPut = map[string]string{
	"pattern": "a path with %Y, %m, %d, %H, %M and %S where a time stands, and * for anything; " +
		"empty: nobody leaves any",
}

var recipePut = map[string]string{
	"exact": "make a directory of the recipe's own exactly as the snapshot: what is not in it goes",
	"when":  "a cadence, such as daily at 02:30, or one moment (RFC 3339); none: only when asked for",
	"check": "the hook of site.yaml that checks what was restored; when it fails the run fails",
}

var trialsPut = map[string]string{
	"files": "how many of a volume's files are tried at most; 100 when not given",
}
