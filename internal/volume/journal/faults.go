package journal

// Stall keeps the kernel's events from being taken until release is called, and Drop loses
// those that were told: what a busy host and a kernel's error would do, for tests.
func (w *Watch) Stall() (release func()) {
	d := w.d
	d.mu.Lock()
	return d.mu.Unlock
}

// Drop is described at Stall.
func (w *Watch) Drop() {
	d := w.d
	d.mu.Lock()
	defer d.mu.Unlock()
	d.drain()
	clear(d.dirs)
	clear(d.files)
	clear(d.below)
	clear(d.moves)
}
