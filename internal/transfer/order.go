package transfer

import (
	"candidharbor/core/object"
	"candidharbor/internal/store"

	"github.com/RoaringBitmap/roaring/v2"
)

// lister yields identities with the lengths of their records until ok is false.
type lister func() (id object.ID, n int64, ok bool)

// childrenFirst lists a set of objects so that nothing comes before what it needs. Roots
// are those that lead to the set.
func childrenFirst(st *store.Store, set *roaring.Bitmap, roots ...object.ID) (lister, error) {
	if st.Repaired() {
		return sorted(st, set, roots)
	}
	it := set.Iterator()
	return func() (object.ID, int64, bool) {
		if !it.HasNext() {
			return object.ID{}, 0, false
		}
		id, n, _ := st.ObjectAt(it.Next())
		return id, n, true
	}, nil
}

// sorted lists the set in post-order: after a repair ordinals no longer tell children from
// parents.
func sorted(st *store.Store, set *roaring.Bitmap, roots []object.ID) (lister, error) {
	left := map[object.ID]int64{}
	for it := set.Iterator(); it.HasNext(); {
		id, n, _ := st.ObjectAt(it.Next())
		left[id] = n
	}
	type one struct {
		id object.ID
		n  int64
	}
	var out []one
	var visit func(id object.ID) error
	visit = func(id object.ID) error {
		n, ok := left[id]
		if !ok {
			return nil
		}
		delete(left, id)
		env, err := st.Get(id)
		if err != nil {
			return err
		}
		for i := range env.NumChildren() {
			if err := visit(env.Child(i)); err != nil {
				return err
			}
		}
		out = append(out, one{id, n})
		return nil
	}
	for _, rid := range roots {
		root, _, err := st.Root(rid)
		if err != nil {
			return nil, err
		}
		if err := visit(root.Tree()); err != nil {
			return nil, err
		}
		if root.HasLinks {
			if err := visit(root.Links); err != nil {
				return nil, err
			}
		}
	}
	return func() (object.ID, int64, bool) {
		if len(out) == 0 {
			return object.ID{}, 0, false
		}
		o := out[0]
		out = out[1:]
		return o.id, o.n, true
	}, nil
}
