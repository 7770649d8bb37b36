// Package outlet lays the newest states of volumes out as plain files at machines that do not run the service, by
// SFTP.
//
// What lies there of a volume is described by a marker in its directory, which is written before anything is changed
// and after all is in place: a run that was cut leaves a marker that names every snapshot of which something may lie
// there, and the next run looks at what these have otherwise. Each file is written under another name, read back, and
// renamed. The other machine is trusted with what it is given and with nothing else: what it answers decides only what
// is written there.
//
// A run holds run.KeyOutlet of its outlet, and no other key. The connection belongs to the run and ends with it.
package outlet
