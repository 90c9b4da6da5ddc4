package record

import (
	"fmt"

	"golang.org/x/mod/sumdb/tlog"
)

// A Hash is of an entry, of a part of the tree, or the root of it: SHA-256.
type Hash = tlog.Hash

// Hashes reads stored hashes of the tree by their places.
type Hashes func(places []int64) ([]Hash, error)

// ReadHashes is what the package that works on the tree calls.
func (h Hashes) ReadHashes(places []int64) ([]Hash, error) { return h(places) }

// Grown is what the next entry adds to the tree.
type Grown struct {
	First int64  // the place of the first of the hashes; the others follow it
	Store []Hash // to be stored
	Root  Hash   // of the tree with the entry
}

// Grow adds an entry to a tree of so many. It reads a few of the hashes that were stored: about one
// for each doubling of the size.
func Grow(size int64, body []byte, stored Hashes) (g Grown, err error) {
	g.First = tlog.StoredHashIndex(0, size)
	if g.Store, err = tlog.StoredHashes(size, body, stored); err != nil {
		return g, err
	}
	g.Root, err = tlog.TreeHash(size+1, Hashes(func(places []int64) ([]Hash, error) {
		out, old := make([]Hash, len(places)), []int64{}
		for i, p := range places {
			if p >= g.First {
				out[i] = g.Store[p-g.First]
			} else {
				old = append(old, p)
			}
		}
		read, err := stored(old)
		if err != nil {
			return nil, err
		}
		for i, p := range places {
			if p < g.First {
				out[i], read = read[0], read[1:]
			}
		}
		return out, nil
	}))
	return g, err
}

// Prove proves that the entry with a number stands in the tree of a size.
func Prove(size, number int64, stored Hashes) ([]Hash, error) {
	return tlog.ProveRecord(size, number-1, stored)
}

// Holds checks such a proof of an entry's body against a head.
func (h Head) Holds(number int64, body []byte, proof []Hash) error {
	return tlog.CheckRecord(proof, h.Size, h.Root, number-1, tlog.RecordHash(body))
}

// ProveEarlier proves that the tree of an earlier size is the beginning of that of a later one. A tree
// of nothing is the beginning of any, without a proof.
func ProveEarlier(size, earlier int64, stored Hashes) ([]Hash, error) {
	if earlier == 0 {
		return nil, nil
	}
	return tlog.ProveTree(size, earlier, stored)
}

// Follows checks such a proof: that nothing of what an earlier head covers was changed.
func (h Head) Follows(earlier Head, proof []Hash) error {
	if earlier.Size == 0 {
		return nil
	}
	return tlog.CheckTree(proof, h.Size, h.Root, earlier.Size, earlier.Root)
}

// Texts is hashes as documents have them: in base64.
func Texts(hashes []Hash) []string {
	out := make([]string, len(hashes))
	for i, h := range hashes {
		out[i] = h.String()
	}
	return out
}

// Parse is the way back from Texts.
func Parse(texts []string) (out []Hash, err error) {
	for _, text := range texts {
		h, err := tlog.ParseHash(text)
		if err != nil {
			return nil, fmt.Errorf("this is not a hash of a record: %q", shortened(text))
		}
		out = append(out, h)
	}
	return out, nil
}

// A growing tree keeps the roots of the full subtrees that it is made of, the largest first, and
// nothing else: what is verified entry by entry needs no more.
type growing struct {
	size  int64
	roots []Hash
}

// add adds a leaf.
func (g *growing) add(leaf Hash) {
	g.roots = append(g.roots, leaf)
	for n := g.size; n&1 == 1; n >>= 1 {
		last := len(g.roots) - 1
		g.roots = append(g.roots[:last-1], tlog.NodeHash(g.roots[last-1], g.roots[last]))
	}
	g.size++
}

// root is that of the whole tree, which must not be empty.
func (g *growing) root() Hash {
	r := g.roots[len(g.roots)-1]
	for i := len(g.roots) - 2; i >= 0; i-- {
		r = tlog.NodeHash(g.roots[i], r)
	}
	return r
}
