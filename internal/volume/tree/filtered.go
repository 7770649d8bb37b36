package tree

import (
	"path"
	"slices"
	"strings"
	"sync"

	"candidharbor/core/object"
	"candidharbor/core/rights"
)

// FilteredTree shows of trees what one person may see: what lies in the folders that were granted,
// and there what owner, mode and access control list as recorded let the person read. Of
// directories that means to list and to pass through. Devices, pipes and sockets are not
// shown, and names of one file are files of their own. A granted folder within another counts
// for itself, also where the outer one may not be read.
//
// What it shows is read like any tree. Its directories have identities of their own, which
// mean something to this tree alone.
type FilteredTree struct {
	get     object.Getter
	who     rights.Person
	granted []string // clean paths; "" is the top

	mu    sync.Mutex
	stand map[object.ID]filteredDir
}

// filteredDir is a directory node as it is reached on one way.
type filteredDir struct {
	id     object.ID
	path   string
	within bool // it lies in what is granted; else it is on the way to that
}

// NewFilteredTree returns a filtered tree over the trees that get reads.
func NewFilteredTree(get object.Getter, who rights.Person, granted []string) *FilteredTree {
	return &FilteredTree{get: get, who: who, granted: granted, stand: map[object.ID]filteredDir{}}
}

// Root is a snapshot's root as the person sees it.
func (v *FilteredTree) Root(r *object.Root) *object.Root {
	out := *r
	out.HasLinks, out.Links = false, object.ID{}
	if slices.Contains(v.granted, "") && v.shows(&r.Top) {
		out.Top.Content = v.standIn(filteredDir{id: r.Top.Content, within: true})
	} else {
		out.Top.Content = v.standIn(filteredDir{id: r.Top.Content})
	}
	return &out
}

func (v *FilteredTree) standIn(w filteredDir) object.ID {
	text := append([]byte("veiled "), w.id[:]...)
	if w.within {
		text = append(text, "\x00"...)
	}
	id := object.Sum(append(text, w.path...))
	v.mu.Lock()
	v.stand[id] = w
	v.mu.Unlock()
	return id
}

func (v *FilteredTree) shows(e *object.Entry) bool {
	switch e.Kind {
	case object.Dir:
		return v.who.May(e, rights.Read|rights.Search)
	case object.File:
		return v.who.May(e, rights.Read)
	}
	return e.Kind == object.Symlink
}

// Get reads an object: a directory as the person sees it, anything else as it is.
func (v *FilteredTree) Get(id object.ID) (object.Envelope, error) {
	v.mu.Lock()
	w, ok := v.stand[id]
	v.mu.Unlock()
	if !ok {
		return v.get(id)
	}
	env, err := v.get(w.id)
	if err != nil {
		return env, err
	}
	keep := func(e *object.Entry) bool {
		at := path.Join(w.path, string(e.Name))
		shown := (w.within || slices.Contains(v.granted, at)) && v.shows(e)
		if e.Kind != object.Dir {
			return shown
		}
		onTheWay := slices.ContainsFunc(v.granted, func(g string) bool { return strings.HasPrefix(g, at+"/") })
		e.Content = v.standIn(filteredDir{id: e.Content, path: at, within: shown})
		return shown || onTheWay
	}
	return object.MapDir(env, keep, func(id object.ID) object.ID {
		return v.standIn(filteredDir{id: id, path: w.path, within: w.within})
	})
}
