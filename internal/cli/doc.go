// Package cli is the candid command: serve, demo, and a client for everything else. It
// decides nothing; it asks the service and says what came back.
package cli
