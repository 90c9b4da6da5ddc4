package api

import (
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"time"
)

// A Phase is how far a change of a host's rules has come.
type Phase string

// The phases of a change.
const (
	Changing   Phase = "changing"   // it is being made
	InForceYet Phase = "in force"   // it is in force, and goes back unless it is kept
	Kept       Phase = "kept"       // it lasts
	GoingBack  Phase = "going back" // it goes back, and that is tried again
	WentBack   Phase = "went back"  // what was in force before is in force again
)

// A ChangeKind is what a change puts in force.
type ChangeKind string

// The kinds of changes.
const (
	ChangeSettle  ChangeKind = "settle"   // what is published
	ChangePause   ChangeKind = "pause"    // for a while, a filter that refuses nothing
	ChangePutBack ChangeKind = "put back" // a copy of what was in force before
)

// A HostChange is a change of what a host has in force, and how it stands.
type HostChange struct {
	ID         string     `json:"id" doc:"its own, for proofs about it"`
	Kind       ChangeKind `json:"kind" enum:"settle,pause,put back" doc:"what it is"`
	What       string     `json:"what" doc:"the same for people: revision 7"`
	Revision   int64      `json:"revision,omitempty" doc:"which is put in force"`
	Generation int64      `json:"generation,omitempty" doc:"of the fleet"`
	Pair       int64      `json:"pair,omitempty" doc:"the number of both together"`
	Task       int64      `json:"task,omitempty" doc:"by which it was asked for"`
	Phase      Phase      `json:"phase" enum:"changing,in force,kept,going back,went back"`
	Why        string     `json:"why,omitempty" doc:"why it went back, or how it is proven that the way in is open"`
	Began      time.Time  `json:"began"`
	Until      time.Time  `json:"until" doc:"when it goes back by itself, unless it is kept"`
	Ended      *time.Time `json:"ended,omitempty"`
}

// Before says that a word about a change is older than another: about an earlier change, or
// about the same one before it went on.
func (c HostChange) Before(other HostChange) bool {
	if c.ID != other.ID {
		return c.Began.Before(other.Began)
	}
	rank := map[Phase]int{Changing: 0, InForceYet: 1, GoingBack: 2, Kept: 3, WentBack: 3}
	return rank[c.Phase] < rank[other.Phase]
}

// A Key is a public key of a service (Ed25519, RFC 8032), in base64.
type Key string

// KeyOf is the public half of a key.
func KeyOf(private ed25519.PrivateKey) Key {
	public, _ := private.Public().(ed25519.PublicKey)
	return Key(base64.StdEncoding.EncodeToString(public))
}

// Public is the key itself, nil if it is none.
func (k Key) Public() ed25519.PublicKey {
	b, err := base64.StdEncoding.DecodeString(string(k))
	if err != nil || len(b) != ed25519.PublicKeySize {
		return nil
	}
	return b
}

// A KeepProof is the service's word that a host was reached after a change: another
// host opened a connection to it.
type KeepProof struct {
	Change    string `json:"change" doc:"the change's ID"`
	From      string `json:"from" doc:"the host that opened the connection"`
	To        string `json:"to" doc:"address and port that it reached"`
	Signature string `json:"signature"`
}

// String is the proof as people say it.
func (p *KeepProof) String() string {
	return fmt.Sprintf("%s opened a connection to %s", p.From, p.To)
}

// said is what is signed: the proof without its signature.
func (p *KeepProof) said() any {
	unsigned := *p
	unsigned.Signature = ""
	return unsigned
}

// Sign signs a proof.
func (p *KeepProof) Sign(key ed25519.PrivateKey) { p.Signature = sign(key, "keep", p.said()) }

// Verify holds a proof against the keys whose word counts.
func (p *KeepProof) Verify(pins []ed25519.PublicKey) error {
	return verify(pins, "keep", p.said(), p.Signature)
}

// sign gives the signature of something that is said for a purpose. What is signed
// for one purpose is worth nothing for another.
func sign(key ed25519.PrivateKey, purpose string, v any) string {
	return base64.StdEncoding.EncodeToString(ed25519.Sign(key, message(purpose, v)))
}

// message is what is signed of a value: what the signature is for, so that one for a task is
// none for rules, and its JSON.
func message(purpose string, v any) []byte {
	b, _ := json.Marshal(v) // only values of ours, which have a JSON
	return append([]byte("yfence "+purpose+"\n"), b...)
}

// ErrSignature is about what no key has signed that a host trusts.
var ErrSignature = errors.New("it is not signed by a service that this host trusts")

// verify says whether one of some keys signed a value for a purpose; ErrSignature where none
// did.
func verify(pins []ed25519.PublicKey, purpose string, v any, signature string) error {
	b, err := base64.StdEncoding.DecodeString(signature)
	if err != nil || len(b) != ed25519.SignatureSize {
		return ErrSignature
	}
	for _, key := range pins {
		if len(key) == ed25519.PublicKeySize && ed25519.Verify(key, message(purpose, v), b) {
			return nil
		}
	}
	return ErrSignature
}
