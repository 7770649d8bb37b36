package transfer

import (
	"io"
	"runtime"
	"sync"

	"candidharbor/core/object"
	"candidharbor/internal/store"
)

// intake checks and stores records on all cores while the line is read on. Chunks have no
// children and may go in any order; what has children waits for the chunks that came
// before it, and only that waits.
type intake struct {
	w       *store.Writer
	chunks  chan chunkOf
	queue   chan *batch
	workers sync.WaitGroup
	wg      sync.WaitGroup // batches that are not done
	mu      sync.Mutex
	err     error
	stop    func() // called when a record was refused: nobody need send more
}

// batch is one frame of records.
type batch struct {
	frame   []byte
	chunks  sync.WaitGroup
	parents [][]byte
}

// chunkOf is the record of a chunk, and the batch that waits for it.
type chunkOf struct {
	raw []byte
	b   *batch
}

func newIntake(w *store.Writer, stop func()) *intake {
	// One more than there are cores: a worker may wait for the disk.
	workers := runtime.GOMAXPROCS(0) + 1
	in := &intake{w: w, stop: stop, chunks: make(chan chunkOf, workers), queue: make(chan *batch, 4)}
	in.workers.Go(func() {
		for b := range in.queue {
			b.chunks.Wait()
			for _, raw := range b.parents {
				in.put(raw)
			}
			recycle(b.frame)
			in.wg.Done()
		}
	})
	for range workers {
		in.workers.Go(func() {
			for c := range in.chunks {
				in.put(c.raw)
				c.b.chunks.Done()
			}
		})
	}
	return in
}

func (in *intake) put(raw []byte) {
	if _, err := in.w.PutRecord(raw); err != nil {
		in.mu.Lock()
		if in.err == nil {
			in.err = err
			in.stop()
		}
		in.mu.Unlock()
	}
}

func (in *intake) failure() error {
	in.mu.Lock()
	defer in.mu.Unlock()
	return in.err
}

// take begins to store the records of a frame, which it keeps until they are.
func (in *intake) take(frame []byte) (records int64, err error) {
	b := &batch{frame: frame}
	in.wg.Add(1)
	records, err = in.split(b)
	in.queue <- b
	if err != nil {
		return records, err
	}
	return records, in.failure()
}

func (in *intake) split(b *batch) (records int64, err error) {
	for rest := b.frame; len(rest) > 0; {
		n, kind, err := store.RecordLength(rest)
		if err != nil {
			return records, err
		}
		if n > len(rest) {
			return records, io.ErrUnexpectedEOF
		}
		raw := rest[:n]
		rest = rest[n:]
		records++
		if kind != object.KindChunk {
			b.parents = append(b.parents, raw)
			continue
		}
		b.chunks.Add(1)
		in.chunks <- chunkOf{raw, b}
	}
	return records, nil
}

// wait returns when all that was taken is stored or refused.
func (in *intake) wait() error {
	in.wg.Wait()
	return in.failure()
}

// close ends the intake after what was taken.
func (in *intake) close() {
	close(in.chunks)
	close(in.queue)
	in.workers.Wait()
}
