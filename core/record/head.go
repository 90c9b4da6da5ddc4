package record

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"
)

// A Key signs the heads of one record.
type Key struct {
	private ed25519.PrivateKey
	name    string
}

// NewKey is the key with a seed of 32 bytes.
func NewKey(seed []byte) Key {
	private := ed25519.NewKeyFromSeed(seed)
	return Key{private, originOf(private.Public().(ed25519.PublicKey))}
}

// originOf names a record by its key, so that no two have one name.
func originOf(public ed25519.PublicKey) string {
	sum := sha256.Sum256(public)
	return fmt.Sprintf("record-%x", sum[:6])
}

// Origin is the name of the record, which stands in each head.
func (k Key) Origin() string { return k.name }

// Public is what others check heads by: the record's name and its public key, as signed notes write
// such keys.
func (k Key) Public() string {
	text, err := note.NewEd25519VerifierKey(k.name, k.private.Public().(ed25519.PublicKey))
	if err != nil {
		panic(err) // the key has the right size, and the name is ours
	}
	return text
}

// Name, KeyHash and Sign make it a signer of notes.
func (s signer) Name() string { return s.name }

// KeyHash tells keys of one name apart, as the form of signed notes has it.
func (s signer) KeyHash() uint32 {
	sum := sha256.New()
	sum.Write([]byte(s.name + "\n\x01"))
	sum.Write(s.private.Public().(ed25519.PublicKey))
	return binary.BigEndian.Uint32(sum.Sum(nil))
}

// Sign signs a note's text.
func (s signer) Sign(text []byte) ([]byte, error) { return ed25519.Sign(s.private, text), nil }

// signer is a key as what signs notes.
type signer Key

// A Head is a size of the record, and the root over so many entries.
type Head struct {
	Origin string
	Size   int64
	Root   Hash
}

// Sign signs a head, which gives a note.
func (k Key) Sign(size int64, root Hash) (string, error) {
	text := fmt.Sprintf("%s\n%d\n%s\n", k.name, size, root)
	signed, err := note.Sign(&note.Note{Text: text}, signer(k))
	return string(signed), err
}

// maxNote is how long a note with a head may be.
const maxNote = 4096

// Open checks a note with a record's public key, and gives the head that it signs.
func Open(signed, public string) (h Head, err error) {
	if len(signed) > maxNote {
		return h, fmt.Errorf("a signed head has up to %d bytes, and this one has %d", maxNote, len(signed))
	}
	v, err := note.NewVerifier(public)
	if err != nil {
		return h, fmt.Errorf("this is not the public key of a record: %q", shortened(public))
	}
	opened, err := note.Open([]byte(signed), note.VerifierList(v))
	var unverified *note.UnverifiedNoteError
	switch {
	case errors.As(err, &unverified):
		other, _, _ := strings.Cut(unverified.Note.Text, "\n")
		return h, fmt.Errorf("it is of another record (%s), or signed with another key than that of %s", shortened(other), v.Name())
	case err != nil:
		return h, errors.New("it is not a signed head of a record")
	}
	lines := strings.Split(opened.Text, "\n")
	if len(lines) < 4 || lines[0] != v.Name() {
		return h, errors.New("it is not a signed head of a record")
	}
	h.Origin = lines[0]
	if h.Size, err = strconv.ParseInt(lines[1], 10, 64); err != nil || h.Size < 0 {
		return h, errors.New("it is a signed head without a size")
	}
	if h.Root, err = tlog.ParseHash(lines[2]); err != nil {
		return h, errors.New("it is a signed head without a root")
	}
	return h, nil
}

// shortened is a text as a sentence may quote it.
func shortened(s string) string {
	if len(s) > 60 {
		return s[:60] + "…"
	}
	return s
}
