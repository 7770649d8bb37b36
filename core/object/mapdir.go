package object

// MapDir returns a directory node as it would be with other entries: keep may change an
// entry's content identity, and leaves out those it says no to; child says what stands for a
// node below an index. What it returns is read like any other node and is nowhere stored.
func MapDir(e Envelope, keep func(*Entry) bool, child func(ID) ID) (Envelope, error) {
	p, err := decodeDir(e)
	if err != nil {
		return e, err
	}
	var children []ID
	if p.Level > 0 {
		for _, id := range e.Children() {
			children = append(children, child(id))
		}
		p.Total = 0 // how many are kept is known to who walks through
	} else {
		var kept []Entry
		for i := range p.Entries {
			if !keep(&p.Entries[i]) {
				continue
			}
			kept = append(kept, p.Entries[i])
			if p.Entries[i].HasContent {
				children = append(children, p.Entries[i].Content)
			}
		}
		p.Entries, p.Total = kept, uint64(len(kept))
	}
	payload, err := encMode.Marshal(p)
	if err != nil {
		return e, err
	}
	return Decode(Encode(nil, KindDir, children, payload))
}
