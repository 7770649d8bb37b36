package retention

import (
	"container/heap"
	"slices"
	"time"
)

// Thin orders snapshots for removal when space is short: first those that lie densest,
// so that the history grows coarse before its reach back goes. taken is ascending;
// may[i] says whether the snapshot may go at all. The oldest that may go comes last.
//
// Each step removes the one whose neighbours are then closest together. Removing one
// moves its neighbours apart, so they come later.
func Thin(taken []time.Time, may []bool) []int {
	n := len(taken)
	prev, next := make([]int, n), make([]int, n)
	for i := range n {
		prev[i], next[i] = i-1, i+1
	}
	gap := func(i int) time.Duration {
		if prev[i] < 0 || next[i] >= n {
			return 1<<63 - 1 // the ends carry the reach
		}
		return taken[next[i]].Sub(taken[prev[i]])
	}
	h := &gaps{}
	version := make([]int, n)
	for i := range n {
		if may[i] {
			h.list = append(h.list, gapOf{gap(i), i, 0})
		}
	}
	heap.Init(h)
	var out []int
	var ends []int
	gone := make([]bool, n)
	for h.Len() > 0 {
		g := heap.Pop(h).(gapOf)
		i := g.index
		if gone[i] || g.version != version[i] {
			continue
		}
		gone[i] = true
		if g.size == 1<<63-1 {
			ends = append(ends, i)
			continue
		}
		out = append(out, i)
		p, q := prev[i], next[i]
		next[p], prev[q] = q, p
		for _, k := range []int{p, q} {
			if may[k] && !gone[k] {
				version[k]++
				heap.Push(h, gapOf{gap(k), k, version[k]})
			}
		}
	}
	slices.SortFunc(ends, func(a, b int) int { return b - a })
	return append(out, ends...)
}

type gapOf struct {
	size    time.Duration
	index   int
	version int
}

type gaps struct{ list []gapOf }

func (h *gaps) Len() int { return len(h.list) }
func (h *gaps) Less(a, b int) bool {
	if h.list[a].size != h.list[b].size {
		return h.list[a].size < h.list[b].size
	}
	return h.list[a].index < h.list[b].index
}
func (h *gaps) Swap(a, b int) { h.list[a], h.list[b] = h.list[b], h.list[a] }
func (h *gaps) Push(x any)    { h.list = append(h.list, x.(gapOf)) }
func (h *gaps) Pop() any {
	last := h.list[len(h.list)-1]
	h.list = h.list[:len(h.list)-1]
	return last
}
