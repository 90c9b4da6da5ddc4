package api

import "strings"

// A Subject is what rules are put in force for: a host's own filter, or the groups of its
// instance in a cloud.
type Subject struct {
	Host  string
	Cloud string // "" for the host's own filter
}

// String is HOST, or HOST@CLOUD.
func (s Subject) String() string {
	if s.Cloud == "" {
		return s.Host
	}
	return s.Host + "@" + s.Cloud
}

// SubjectOf is the Subject that a text names; no host's name has an @.
func SubjectOf(text string) (s Subject) {
	s.Host, s.Cloud, _ = strings.Cut(text, "@")
	return s
}
