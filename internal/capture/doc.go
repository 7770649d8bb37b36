// Package capture takes snapshots: volumes and groups of them, hooks that hold their writers,
// what followers heard of changes, and what is due when.
//
// A snapshot exists from the instant its root record is durable; its row follows. A volume that may
// not be the one that was meant is not taken until a person said so.
//
// The mutex of followers is held for no call into another part. The journal's goroutines end with
// EndFollowing.
package capture
