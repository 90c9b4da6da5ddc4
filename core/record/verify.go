package record

import (
	"bytes"
	"fmt"

	"golang.org/x/mod/sumdb/tlog"
)

// A Row is an entry as it is stored.
type Row struct {
	Number int64  `json:"number"`
	Body   string `json:"entry" doc:"the entry, as the tree covers it, byte for byte"`
	Head   string `json:"head" doc:"the head that was signed with it"`
}

// A Checkpoint is a signed head with the key to check it by, as it is kept elsewhere.
type Checkpoint struct {
	Version int    `json:"version"`
	Key     string `json:"key" doc:"the record's public key"`
	Size    int64  `json:"size" doc:"how many entries there are, as the service counts them"`
	Head    string `json:"head" doc:"the signed head: the record's name, its size, the root over it"`
}

// Wrong is what is not as it was recorded.
type Wrong struct {
	Number int64  `json:"number,omitempty" doc:"of the first entry that is wrong; 0 where it is not one entry"`
	What   string `json:"what"`
}

// Error says it as a sentence.
func (w *Wrong) Error() string { return w.What }

// A Verifier goes through a record from its first entry on.
type Verifier struct {
	public  string
	tree    growing
	earlier map[int64][]Head // that are to be met, by their sizes
	largest int64
}

// Verify begins to verify a record with its public key, and that what earlier checkpoints cover is its
// beginning. The error, a *Wrong, is a checkpoint that is not of this record.
func Verify(public string, earlier ...Checkpoint) (*Verifier, error) {
	v := &Verifier{public: public, earlier: map[int64][]Head{}}
	for _, c := range earlier {
		if c.Key != public {
			return nil, &Wrong{0, fmt.Sprintf("the checkpoint is of another record: its key is %s, and the key of this record is %s",
				shortened(c.Key), shortened(public))}
		}
		h, err := Open(c.Head, public)
		if err != nil {
			return nil, &Wrong{0, "the checkpoint does not hold: " + err.Error()}
		}
		v.earlier[h.Size] = append(v.earlier[h.Size], h)
		v.largest = max(v.largest, h.Size)
	}
	return v, nil
}

// Size is how many entries were gone through.
func (v *Verifier) Size() int64 { return v.tree.size }

// Add checks the next entry; nil where it is as it was recorded. After one that is not the verifier is
// of no more use.
func (v *Verifier) Add(r Row) *Wrong {
	due := v.tree.size + 1
	wrong := func(format string, args ...any) *Wrong {
		return &Wrong{due, fmt.Sprintf("entry %d ", due) + fmt.Sprintf(format, args...)}
	}
	if r.Number != due {
		return wrong("is missing: entry %d stands in its place", r.Number)
	}
	e, err := Read([]byte(r.Body))
	switch {
	case err != nil:
		return wrong("was changed: it cannot be read any more")
	case e.Number != due:
		return wrong("was put into another place: it says of itself that it is entry %d", e.Number)
	}
	v.tree.add(tlog.RecordHash([]byte(r.Body)))
	h, err := Open(r.Head, v.public)
	switch root := v.tree.root(); {
	case err != nil:
		return wrong("was added or changed: the head beside it is not the record's own: %s", err)
	case h.Size != due:
		return wrong("was changed: the head beside it is that of entry %d", h.Size)
	case !bytes.Equal(h.Root[:], root[:]):
		return wrong("was changed: it is not what was signed when it was recorded")
	}
	for _, early := range v.earlier[due] {
		if early.Root != h.Root {
			return wrong("or one before it was changed, and the record was signed anew: the checkpoint of %d entries is not its "+
				"beginning", due)
		}
	}
	return nil
}

// End checks that nothing is missing behind the last entry: not of what the newest checkpoint says, and
// not of what earlier ones say.
func (v *Verifier) End(newest int64) *Wrong {
	size := v.tree.size
	if want := max(newest, v.largest); size < want {
		what := fmt.Sprintf("entries %d to %d are missing at the end", size+1, want)
		if want == size+1 {
			what = fmt.Sprintf("entry %d is missing at the end", want)
		}
		return &Wrong{size + 1, what}
	}
	return nil
}
