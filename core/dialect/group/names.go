package group

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"regexp"
	"strings"
)

// Prefix is what the names of groups of ours begin with.
const Prefix = "yf-"

// Names of groups can be taken apart in one way only, so that no two can meet: names of roles
// and hosts hold no underscore, and a role's begins with a letter.
//
//	yf-ROLE[_ROLE…][__HOST][_PART][.SUM[-N]]
//
// HOST tells apart whom the policy tells apart though their roles are the same. What would be
// longer than longest ends in three underscores and its own sum instead.
const (
	longest   = 63
	sumLength = 16 // of a content's sum, in hexadecimal digits
)

// nameOf is what the groups of hosts of these roles are called; host is "" where nobody has
// to be told apart.
func nameOf(roles []string, host string) string {
	name := Prefix + strings.Join(roles, "_")
	if host != "" {
		name += "__" + host
	}
	if len(name) <= longest {
		return name
	}
	sum := hexSum([]byte(name), 32)
	return name[:longest-3-len(sum)] + "___" + sum
}

// partOf is what the n-th of several groups of a name is called, from 1 on.
func partOf(name string, n int) string {
	if n == 1 {
		return name
	}
	return fmt.Sprintf("%s_%d", name, n)
}

// again is what a group is called where a cloud has n-1 of its name that hold something else.
func again(name string, n int) string { return fmt.Sprintf("%s-%d", name, n) }

// afterContent are the names of groups that are called after their content (ByContent).
var afterContent = regexp.MustCompile(fmt.Sprintf(`^(.*)\.([0-9a-f]{%d})(-[0-9]+)?$`, sumLength))

// calledAfter takes the name of a group that is called after its content apart: what it is
// for, and the sum; "" if it is called otherwise.
func calledAfter(name string) (base, sum string) {
	if m := afterContent.FindStringSubmatch(name); m != nil {
		return m[1], m[2]
	}
	return name, ""
}

// sum is what a group is called after.
func (g Group) sum() string { return hexSum(g.content(), sumLength) }

// hexSum is the beginning of a sum of some bytes (SHA-256), to tell names that would be the
// same apart.
func hexSum(b []byte, digits int) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])[:digits]
}
