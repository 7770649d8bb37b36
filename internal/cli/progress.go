package cli

import (
	"fmt"
	"time"

	"candidharbor/api"
	"candidharbor/internal/visible"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"
)

func errorf(format string, args ...any) error { return fmt.Errorf(format, args...) }

// bar shows a run's progress on a terminal as a bar, elsewhere as a line now and then.
type bar struct {
	f     *session
	p     *mpb.Progress
	b     *mpb.Bar
	last  time.Time
	state *api.Run
}

func newBar(f *session) *bar {
	b := &bar{f: f, last: time.Now()}
	if !f.json && terminalWidth(f.err) > 0 {
		b.p = mpb.New(mpb.WithOutput(f.err.(*visible.Writer).W), mpb.WithWidth(40))
	}
	return b
}

func (b *bar) update(r *api.Run, since time.Duration) {
	b.state = r
	if r.Over() || b.f.json {
		return
	}
	if b.p == nil {
		if time.Since(b.last) > 5*time.Second {
			b.last = time.Now()
			fmt.Fprintf(b.f.err, "%s of %s: %s\n", r.Kind, r.Subject, progressText(r))
		}
		return
	}
	if b.b == nil && since > 600*time.Millisecond {
		b.b = b.p.AddBar(max(1, r.Progress.TotalBytes), mpb.BarRemoveOnComplete(),
			mpb.PrependDecorators(decor.Name(r.Kind+" ")),
			mpb.AppendDecorators(decor.Any(func(decor.Statistics) string { return progressText(b.state) })))
	}
	if b.b != nil {
		b.b.SetTotal(max(1, r.Progress.TotalBytes), false)
		b.b.SetCurrent(r.Progress.DoneBytes)
	}
}

func (b *bar) end() {
	if b.b != nil {
		b.b.Abort(true)
	}
	if b.p != nil {
		b.p.Wait()
	}
}

func progressText(r *api.Run) string {
	p := r.Progress
	s := r.State
	if p.Phase != "" {
		s = p.Phase
	}
	if p.DoneBytes > 0 {
		s += ", " + size(p.DoneBytes)
	}
	if p.BytesPerSecond > 0 {
		s += fmt.Sprintf(" at %s/s", size(int64(p.BytesPerSecond)))
	}
	if p.SecondsLeft > 1 {
		s += fmt.Sprintf(", about %s left", age(int64(p.SecondsLeft)))
	}
	return s
}
