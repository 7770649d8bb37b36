package tree

import (
	"errors"
	"fmt"
	"path"

	"candidharbor/core/object"
	"candidharbor/internal/store"

	"golang.org/x/sys/unix"
)

// dest is where a path of the snapshot comes to lie in the target. The caller holds mu.
func (r *restorer) dest(rel string) string {
	if len(r.moved) == 0 {
		return rel
	}
	for d := rel; d != "." && d != ""; d = path.Dir(d) {
		if to, ok := r.moved[d]; ok {
			return to + rel[len(d):]
		}
	}
	return rel
}

func (r *restorer) act(rel, what string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	rel = r.dest(rel)
	switch what {
	case "create":
		r.res.Created++
	case "replace":
		r.res.Replaced++
	case "remove":
		r.res.Removed++
	case "skip":
		r.res.Skipped++
	case "adjust":
		r.res.Adjusted++
	case "fail":
		r.res.Failed++
	case "keep":
		r.res.Kept++
		return
	}
	if len(r.res.Samples) < samplesKept {
		r.res.Samples = append(r.res.Samples, Act{rel, what})
	}
}

// failed takes back that an act was counted, which then could not be done.
func (r *restorer) failed(rel, what string, e *object.Entry) {
	r.mu.Lock()
	defer r.mu.Unlock()
	switch what {
	case "create":
		r.res.Created--
	case "replace":
		r.res.Replaced--
	}
	r.res.Failed++
	if e.Kind == object.File {
		r.res.Bytes -= e.Size
	}
	rel = r.dest(rel)
	for i := range r.res.Samples {
		if r.res.Samples[i].Path == rel {
			r.res.Samples[i].What = "fail"
		}
	}
}

func (r *restorer) remark(rel, format string, args ...any) {
	r.mu.Lock()
	defer r.mu.Unlock()
	rel = r.dest(rel)
	r.res.RemarkCount++
	if len(r.res.Remarks) < object.MaxRemarks {
		r.res.Remarks = append(r.res.Remarks, object.Remark{Path: []byte(rel), What: fmt.Sprintf(format, args...)})
	}
}

// explain turns what concerns one entry into a remark. A full disk, one that takes no
// writes, and a cancelled run end the restore.
func (r *restorer) explain(rel string, err error) error {
	switch {
	case errors.Is(err, unix.ENOSPC), errors.Is(err, unix.EDQUOT):
		return fmt.Errorf("no room left at the target while writing %s: %s", rel, r.soFar())
	case errors.Is(err, unix.EROFS):
		return fmt.Errorf("the target's filesystem takes no more writes, at %s: %s", rel, r.soFar())
	case r.ctx.Err() != nil:
		return r.ctx.Err()
	case damaged(err):
		r.remark(rel, "not restored, its stored data is damaged: %s", err)
		return nil
	}
	r.remark(rel, "not restored: %s", plainError(err))
	return nil
}

// damaged reports whether an error says that stored data is not whole.
func damaged(err error) bool {
	return errors.Is(err, store.ErrDamaged) || errors.Is(err, store.ErrNoObject)
}

// listed makes a remark of damage to a directory, so that all else is restored.
func (r *restorer) listed(rel string, err error) error {
	if damaged(err) {
		r.remark(rel, "not restored as a whole, its stored data is damaged: %s", err)
		return nil
	}
	return err
}

// soFar tells what a restore that ends early leaves.
func (r *restorer) soFar() string {
	if r.fresh {
		return "nothing of it was left there"
	}
	return "what was restored before it is whole"
}
