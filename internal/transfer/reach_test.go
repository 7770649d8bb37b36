package transfer

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"testing"

	"candidharbor/core/object"

	"github.com/stretchr/testify/require"
)

// Whoever knows only the identity of what others have at a site is not told that it is there,
// and can name it in nothing: neither in a directory of its own nor by sending one of others'
// that is there already. What it sends whole it may name.
func TestNothingByIdentity(t *testing.T) {
	f := newFar(t, publicOf(1))
	f.handle = func(ctx context.Context, s *Stream, q *CarryRequest) error {
		none := func(object.ID) bool { return false }
		r := &Receiver{Store: f.st, Peer: publicOf(1), Meter: &Meter{}, Knows: none, Sees: func(uint32) bool { return false },
			Arrived: func(object.ID, int64) (int64, error) { return 1, nil },
			MayMark: func(*object.Mark, ed25519.PublicKey) bool { return true },
			Trusted: func(*object.Root, ed25519.PublicKey) error { return nil }}
		return r.Run(ctx, s, q)
	}
	secret := bytes.Repeat([]byte("what others keep there "), 100)
	others := commit(t, f.st, 1, map[int][]byte{0: secret}, 1)
	evil := openStore(t, 1)
	mine := commit(t, evil, 2, map[int][]byte{0: secret}, 1) // only to have the records to send
	root, _, err := evil.Root(mine)
	require.NoError(t, err)
	dir, err := evil.Record(root.Tree(), nil)
	require.NoError(t, err)
	env, err := evil.Get(root.Tree())
	require.NoError(t, err)
	chunk := env.Child(0)
	raw, err := evil.Record(chunk, nil)
	require.NoError(t, err)
	record, err := evil.RootRecord(mine)
	require.NoError(t, err)
	id, err := NewIdentity(key(1))
	require.NoError(t, err)
	theirs, _, err := f.st.Root(others)
	require.NoError(t, err)
	require.Equal(t, root.Tree(), theirs.Tree(), "the directory is there too")

	carry := func(records ...[]byte) (want []byte, err error) {
		link, err := Dial(t.Context(), f.addr, id, f.id.Public())
		require.NoError(t, err)
		defer link.Close()
		q := CarryRequest{Lineage: root.Lineage, Volume: root.Volume, Origin: root.Origin, Root: mine,
			Bases: []object.ID{others}}
		s, err := link.Open(OpCarry, q)
		require.NoError(t, err)
		defer s.Close()
		var begin carryBegin
		require.NoError(t, s.Answer(&begin))
		require.Empty(t, begin.Known)
		offer := append(append([]byte{}, chunk[:]...), root.Top.Content[:]...)
		require.NoError(t, s.raw(frameOffer, offer))
		require.NoError(t, s.flush())
		kind, want, err := s.read()
		require.NoError(t, err)
		require.Equal(t, frameWant, kind)
		want = bytes.Clone(want)
		for _, r := range records {
			require.NoError(t, s.raw(frameRecords, r))
		}
		require.NoError(t, s.send(frameCommit, carryCommit{Root: record}))
		require.NoError(t, s.flush())
		var done carryDone
		return want, s.Answer(&done)
	}
	want, err := carry(dir)
	require.Equal(t, []byte{3}, want, "both are asked for, although both are there")
	require.ErrorContains(t, err, "a child is not in the store")
	_, err = carry()
	require.ErrorContains(t, err, "not in the store")
	require.False(t, f.st.HasRoot(mine))
	_, err = carry(raw, dir)
	require.NoError(t, err)
	require.True(t, f.st.HasRoot(mine))
	requireWhole(t, f.st, mine)
}
