package api

import (
	"fmt"
	"slices"
	"strings"
)

// Right is what somebody may do: one of the words below, for the whole fleet; or with roles behind it,
// as settle:charts,broker, for what concerns hosts of those roles alone.
type Right string

// The rights. Host is that of one host's own token: its reports and its rules.
const (
	Read    Right = "read"
	Propose Right = "propose"
	Approve Right = "approve"
	Publish Right = "publish"
	Settle  Right = "settle"
	Pause   Right = "pause"
	Tokens  Right = "tokens"
	Host    Right = "host"
)

// Rights lists all rights that a person's token can have.
var Rights = []Right{Read, Propose, Approve, Publish, Settle, Pause, Tokens}

// What is the word of a right, and which roles it is for; none is the whole fleet.
func (r Right) What() (word Right, roles []string) {
	name, of, limited := strings.Cut(string(r), ":")
	if limited {
		roles = strings.Split(of, ",")
	}
	return Right(name), roles
}

// Check is an error where a right is none that a token can have.
func (r Right) Check() error {
	word, roles := r.What()
	if !slices.Contains(Rights, word) {
		return fmt.Errorf("%q is not a right; the rights are %s, each for the whole fleet or, as settle:charts, for roles", string(word),
			strings.Join(Words(Rights), ", "))
	}
	for _, role := range roles {
		if role == "" || strings.Trim(role, "abcdefghijklmnopqrstuvwxyz0123456789-_.") != "" {
			return fmt.Errorf("%q names no roles: write them as %s:charts,broker", string(r), word)
		}
	}
	return nil
}

// Words is rights as words.
func Words(rights []Right) []string {
	out := make([]string, len(rights))
	for i, r := range rights {
		out[i] = string(r)
	}
	return out
}

// Has says that somebody has a right for the whole fleet.
func Has(rights []Right, want Right) bool { return slices.Contains(rights, want) }

// HasSome says that somebody has a right, for the whole fleet or for some roles.
func HasSome(rights []Right, want Right) bool {
	return slices.ContainsFunc(rights, func(r Right) bool {
		word, _ := r.What()
		return word == want
	})
}

// Covers says that somebody has a right for a host of these roles: for the whole fleet, or for all of
// the host's roles. Whoever may pause charts may not pause a host that is the gate too.
func Covers(rights []Right, want Right, of []string) bool {
	may := map[string]bool{}
	for _, r := range rights {
		word, roles := r.What()
		if word != want {
			continue
		}
		if roles == nil {
			return true
		}
		for _, role := range roles {
			may[role] = true
		}
	}
	return len(of) > 0 && !slices.ContainsFunc(of, func(role string) bool { return !may[role] })
}

// Within says that whoever has some rights may give another: he has it himself, as far as it goes.
func (r Right) Within(rights []Right) bool {
	word, roles := r.What()
	if roles == nil {
		return Has(rights, word)
	}
	return Covers(rights, word, roles)
}
