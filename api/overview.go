package api

import (
	"time"

	"yellowfence.example/yfence/core/ask"
)

// Outline is all hosts in few words, for whoever draws or counts them.
type Outline struct {
	Version    int            `json:"version"`
	Generation int64          `json:"generation"`
	Revision   int64          `json:"revision" doc:"that is published"`
	Policy     string         `json:"policy" doc:"the policy's name"`
	Hosts      []OutlinedHost `json:"hosts" nullable:"false" doc:"in the fleet file's order"`
}

// OutlinedHost is a host in few words.
type OutlinedHost struct {
	Name  string   `json:"name"`
	Roles []string `json:"roles"`
	State State    `json:"state"`
	Has   int64    `json:"in_force,omitempty" doc:"the revision that is in force there; left out where it is none, or not known"`
}

// History is how the fleet stood over some time, the oldest first.
type History struct {
	Version int         `json:"version"`
	Since   time.Time   `json:"since"`
	Stood   []StoodAt   `json:"stood" nullable:"false"`
	Refused []DayCounts `json:"refused" nullable:"false" doc:"what hosts told of each day in UTC that they refused"`
}

// StoodAt is how many hosts were in which state at an instant.
type StoodAt struct {
	At       time.Time      `json:"at"`
	Revision int64          `json:"revision" doc:"that was published"`
	Counts   map[string]int `json:"counts" doc:"hosts by state"`
}

// DayCounts is what was counted on a day.
type DayCounts struct {
	Day     time.Time `json:"day" doc:"its beginning, in UTC"`
	Packets int64     `json:"packets"`
}

// What needs a person now.
const (
	ConcernOpened    = "opened"    // somebody opened something on hosts
	ConcernState     = "state"     // hosts are in a state in which somebody has to act, or look
	ConcernShut      = "shut"      // somebody shut something
	ConcernAltered   = "altered"   // something is otherwise done than the policy says
	ConcernWave      = "wave"      // stopped, or waiting for somebody
	ConcernProposal  = "proposal"  // waits for approvals, or to be published
	ConcernCloud     = "cloud"     // cannot be read, or its groups are not as they are to be
	ConcernList      = "list"      // cannot be read, or waits for a person
	ConcernDelivery  = "delivery"  // events that a destination did not take
	ConcernAddresses = "addresses" // of hosts are otherwise than the fleet file says
	ConcernSettle    = "settle"    // what is published is not in force everywhere
)

// Attention is what needs a person now, the most urgent first.
type Attention struct {
	Version  int       `json:"version"`
	Revision int64     `json:"revision" doc:"that is published"`
	Concerns []Concern `json:"concerns" nullable:"false"`
	More     int       `json:"more,omitempty" doc:"how many more there are"`
	Reading  int       `json:"reading,omitempty" doc:"so many hosts' last reports are being read: nothing is said of them yet"`
}

// A Concern is one thing that needs a person, with all hosts where it is the same.
type Concern struct {
	Kind  string   `json:"kind" enum:"opened,state,shut,altered,wave,proposal,cloud,list,delivery,addresses,settle"`
	Tone  Tone     `json:"tone" enum:"bad,care"`
	On    string   `json:"on,omitempty" doc:"what it is about where that is no host: a wave or a proposal by its number, a cloud, a network or a destination by its name"`
	State State    `json:"state,omitempty" doc:"of hosts, where that is it"`
	Says  string   `json:"says" doc:"what it is, in one sentence"`
	Hint  string   `json:"hint,omitempty" doc:"what to do about it"`
	Hosts []string `json:"hosts,omitempty" nullable:"false" doc:"the first of the hosts that it is on"`
	Count int      `json:"count,omitempty" doc:"on how many hosts it is"`
}

// Reach is which services pass between all roles and networks of a revision, over the newest fleet.
type Reach struct {
	Version  int       `json:"version"`
	Revision int64     `json:"revision"`
	At       time.Time `json:"at" doc:"the instant that it is for: rules end"`
	ask.Matrix
}
