package index

import (
	"bytes"
	"encoding/binary"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"freshkeel/internal/locker/cut"
	"freshkeel/internal/tree"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Damage in an index costs the block that it is in, and no other.
func TestAnIndexIsDamagedByTheBlock(t *testing.T) {
	var text Text
	var all []Found
	bySum := map[tree.Sum]Found{}
	for n := range 1000 { // small pieces that share frames, and some of the other kinds
		in := Found{Line: Line{tree.SumBytes([]byte{byte(n), byte(n >> 8)}),
			Place{Off: int64(n / 50 * 1000), Stored: 900, Size: 20, At: int32(n % 50 * 20)}}}
		switch n % 100 {
		case 98:
			in.Base = cut.ZeroSum()
		case 99:
			in.Prints = []byte{0, 1, 2, 3, 4, 5, 6, byte(n), 255}
		}
		all = append(all, in)
		bySum[in.Sum] = in
		text.Add(in)
	}
	packed, err := text.Pack()
	require.NoError(t, err)
	x := Parse(packed)
	require.NoError(t, x.Bad)
	for i := range x.Lines {
		require.Equal(t, all[i], x.Whole(i))
	}
	require.Len(t, x.Lines, len(all))
	assert.Less(t, len(text.text), 1000*(64+8), "most lines are short")
	for at := 0; at < len(packed); at += 501 {
		spoilt := bytes.Clone(packed)
		spoilt[at] ^= 0x10
		x := Parse(spoilt)
		if x.Bad == nil { // in what is passed over
			require.Len(t, x.Lines, 1000)
			continue
		}
		if !strings.Contains(x.Bad.Error(), "no mark") && !strings.Contains(x.Bad.Error(), "cut short") {
			assert.GreaterOrEqual(t, len(x.Lines), 750, at)
		}
		for i := range x.Lines {
			require.True(t, reflect.DeepEqual(bySum[x.Lines[i].Sum], x.Whole(i)))
		}
	}
	x = Parse(packed[:len(packed)-1])
	assert.ErrorContains(t, x.Bad, "cut short")
	assert.GreaterOrEqual(t, len(x.Lines), 750)
}

func FuzzReadIndexLine(f *testing.F) {
	f.Add([]byte(tree.SumBytes(nil).String() + " 0 10 20 30"))
	f.Add([]byte(tree.SumBytes(nil).String() + " 12 34 56"))
	f.Add([]byte(tree.SumBytes(nil).String() + " 12 34 56 0 " + cut.ZeroSum().String()))
	f.Add([]byte(tree.SumBytes(nil).String() + " 12 34 56 =0123456789abcdef00"))
	f.Add([]byte(tree.SumBytes(nil).String() + " 200"))
	before := Place{Off: 99, Stored: 1000, Size: 3, At: 4}
	f.Fuzz(func(t *testing.T, line []byte) {
		in, err := readIndexLine(line, before)
		if err == nil {
			again := appendIndexLine(nil, in, before)
			in2, err := readIndexLine(bytes.TrimSuffix(again, []byte("\n")), before)
			if err != nil || !reflect.DeepEqual(in, in2) {
				t.Fatalf("%q reads as %+v, that as %+v (%v)", line, in, in2, err)
			}
		}
	})
}

// The table of pieces is a map: whatever is entered and found, in any order. Of a piece
// that lies over another the whole line counts first, then one of which all is there.
func TestPiecesAreFoundLikeInAMap(t *testing.T) {
	var x Table
	_, _, ok := x.Find(tree.Sum{})
	assert.False(t, ok)
	want := map[tree.Sum]Place{}
	r := rand.New(rand.NewPCG(3, 4))
	sum := func(n int) (s tree.Sum) {
		binary.LittleEndian.PutUint64(s[:], uint64(n%97)) // many begin alike
		binary.LittleEndian.PutUint64(s[8:], uint64(n))
		return s
	}
	for pack := range 300 {
		lines := make([]Held, r.IntN(40))
		for i := range lines {
			ln := Line{sum(r.IntN(6000)), Place{Pack: int32(pack), Off: int64(i), Size: int32(r.IntN(1000))}}
			lines[i], want[ln.Sum] = heldOf(ln), ln.Place
		}
		if pack%50 == 0 {
			x.Grow(r.IntN(5000))
		}
		x.Add(&Index{Lines: lines})
	}
	for n := range 6100 {
		p, _, ok := x.Find(sum(n))
		is, has := want[sum(n)]
		require.Equal(t, has, ok)
		require.Equal(t, is, p)
	}
	assert.Equal(t, len(want), x.n)

	// 7000 lies over what is not there, then over what is; then it is whole.
	add := func(n, base int) {
		in := &Index{Lines: []Held{{Sum: sum(n), Off: uint32(base)}}}
		if base > 0 {
			in.over = map[tree.Sum]tree.Sum{sum(n): sum(base)}
		}
		x.Add(in)
	}
	at := func(n int) (int64, bool) {
		p, base, ok := x.Find(sum(n))
		if ok && p.Off > 0 {
			assert.Equal(t, sum(int(p.Off)), base)
		}
		return p.Off, ok
	}
	add(7000, 7001)
	_, ok = at(7000)
	assert.False(t, ok, "its base is not there")
	add(7002, 0)
	add(7000, 7002)
	off, ok := at(7000)
	assert.True(t, ok)
	assert.EqualValues(t, 7002, off)
	add(7000, 0)
	off, ok = at(7000)
	assert.True(t, ok)
	assert.Zero(t, off)
	add(7000, 7002)
	off, _ = at(7000)
	assert.Zero(t, off)
	for n := range 2 * MaxOver { // a chain, and a ring
		add(8001+n, 8000+n)
	}
	add(8000, 0)
	_, ok = at(8000 + MaxOver)
	assert.True(t, ok)
	_, ok = at(8001 + MaxOver)
	assert.False(t, ok, "over too many")
	add(9000, 9001)
	add(9001, 9000)
	_, ok = at(9000)
	assert.False(t, ok)
}
