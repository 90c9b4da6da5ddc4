package api

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// WaveRequest asks to put a revision in force over the fleet, step by step.
type WaveRequest struct {
	Revision     int64    `json:"revision,omitempty" doc:"with the fleet it was last published with; 0 is what is published"`
	Hosts        []string `json:"hosts,omitempty" nullable:"false" maxItems:"100000" doc:"these alone; hosts or roles"`
	Sizes        []string `json:"sizes,omitempty" nullable:"false" maxItems:"100" doc:"how many hosts are settled by the end of each step: a number, or a share as 10%; the last step takes the rest. If not said: one host of each role, a tenth, all"`
	Within       string   `json:"within,omitempty" doc:"the time for a host's keep, as 90s; a minute if not said"`
	PauseBetween bool     `json:"pause_between,omitempty" doc:"wait after each step until somebody says to go on"`
	SkipProbes   bool     `json:"skip_probes,omitempty" doc:"do not try after each step what the policy expects"`
	Force        bool     `json:"force,omitempty" doc:"go on where the change cuts off log-ins or the service"`
	Why          string   `json:"why,omitempty" maxLength:"2000"`
	Plan         bool     `json:"plan,omitempty" doc:"say which hosts each step would settle, and begin nothing"`
}

// The states of a wave.
const (
	WaveRunning = "running"
	WaveWaiting = "waiting" // after a step, for somebody's word to go on
	WaveDone    = "done"
	WaveStopped = "stopped"
	WavePlanned = "planned" // it was asked what it would do, and did not begin
)

// The phases of a host in a wave, besides those of its change.
const (
	HostDue     = "due"
	HostAsked   = "asked" // to settle
	HostInForce = "in force"
	HostProbed  = "probed" // another host opens a connection to it
	HostKeeping = "keeping"
	HostKept    = "kept"
	HostBack    = "went back"
	HostFailed  = "failed"
	HostAbsent  = "absent" // it does not attend, and is left out
)

// A Wave puts a pair in force over hosts, step by step.
type Wave struct {
	Number       int64          `json:"number"`
	Revision     int64          `json:"revision"`
	Generation   int64          `json:"generation"`
	By           string         `json:"by" doc:"the name of the token that began it"`
	Why          string         `json:"why,omitempty"`
	State        string         `json:"state" enum:"running,waiting,done,stopped,planned"`
	Stopped      string         `json:"stopped,omitempty" doc:"why it stopped"`
	Steps        int            `json:"steps" doc:"how many there are"`
	Step         int            `json:"step" doc:"which it is at, from 1"`
	PauseBetween bool           `json:"pause_between,omitempty"`
	SkipProbes   bool           `json:"skip_probes,omitempty" doc:"what the policy expects is not tried after each step"`
	Force        bool           `json:"force,omitempty"`
	Within       string         `json:"within"`
	Began        time.Time      `json:"began"`
	Ended        *time.Time     `json:"ended,omitempty"`
	Hosts        []WaveHost     `json:"hosts" nullable:"false"`
	Trials       []Trial        `json:"trials,omitempty" nullable:"false" doc:"connections that are tried after this step, since the policy expects something of them"`
	Rounds       int            `json:"rounds,omitempty" doc:"how often those were tried"`
	Counts       map[string]int `json:"counts,omitempty" doc:"how many of its hosts are in which phase"`
	Held         int            `json:"held,omitempty" doc:"connections that came out as the policy says, in all steps"`
	Proofs       []Proof        `json:"proofs,omitempty" nullable:"false" doc:"what shows of each statement that came, went or changed that it is so"`
	Left         []string       `json:"left,omitempty" nullable:"false" doc:"what could not be tried, and why"`
}

// A Proof is what real connections showed of a statement that a wave put in force or took out.
type Proof struct {
	Statement string `json:"statement"`
	Change    string `json:"change" enum:"new,gone,changed"`
	Passed    string `json:"passed,omitempty" doc:"a connection that the policy admits, and that was answered"`
	Refused   string `json:"refused,omitempty" doc:"one that it refuses, and that nobody answered"`
}

// Tried says that connections were tried at all.
func (w Wave) Tried() bool { return w.Held > 0 || len(w.Proofs) > 0 }

// Size is how many hosts the wave is at, also where they are not told.
func (w Wave) Size() (n int) {
	for _, count := range w.Counts {
		n += count
	}
	return n
}

// A Trial is a real connection that shows whether an expectation holds.
type Trial struct {
	For      string `json:"for" doc:"the expectation, or the statement that came, went or changed"`
	Change   string `json:"change,omitempty" enum:"new,gone,changed" doc:"of a statement"`
	From     string `json:"from" doc:"the host that opens it"`
	To       string `json:"to" doc:"the host that it goes to"`
	Address  string `json:"address"`
	Source   string `json:"source,omitempty" doc:"the address that it was opened from"`
	Service  string `json:"service"`
	Admitted bool   `json:"admitted" doc:"by the policy"`
	FromPair int64  `json:"from_pair,omitempty" doc:"the pair that the first host has in force, if it is not the wave's"`
	ToPair   int64  `json:"to_pair,omitempty" doc:"and the second"`
	Listen   int64  `json:"listen,omitempty" doc:"the task by which something listens there"`
	Task     int64  `json:"task,omitempty" doc:"the task by which it is opened"`
	Came     string `json:"came,omitempty" doc:"what came of it"`
	Agrees   string `json:"agrees,omitempty" enum:"yes,no,open"`
}

// Probe is the trial as a host is asked for it.
func (t Trial) Probe() (p Probe) {
	p.Protocol, p.To = "icmp", t.Address
	if protocol, port, ok := strings.Cut(t.Service, " "); ok {
		p.Protocol = protocol
		p.Port, _ = strconv.Atoi(port) // as the service wrote it
	}
	return p
}

// String is it as people say it.
func (t Trial) String() string {
	does := "refuses"
	if t.Admitted {
		does = "admits"
	}
	about := "expect " + t.For
	if t.Change != "" {
		about = fmt.Sprintf("%s, which is %s", t.For, t.Change)
	}
	return fmt.Sprintf("%s: %s was %s, and the policy %s it", about, t.Connection(), t.Came, does)
}

// Connection is what is tried.
func (t Trial) Connection() string {
	return fmt.Sprintf("%s -> %s (%s) : %s", t.From, t.To, t.Address, t.Service)
}

// A WaveHost is one host of a wave.
type WaveHost struct {
	Name   string   `json:"name"`
	Step   int      `json:"step" doc:"which settles it, from 1"`
	Cloud  string   `json:"cloud,omitempty" doc:"whose groups are put in force for its instance; its own filter's rules if not said"`
	Pair   int64    `json:"pair" doc:"that is put in force"`
	Had    int64    `json:"had,omitempty" doc:"the pair that it was asked for before"`
	Phase  string   `json:"phase" enum:"due,asked,in force,probed,keeping,kept,went back,failed,absent"`
	Why    string   `json:"why,omitempty" doc:"how it is proven that the way in is open, or why it went back or failed"`
	Said   []string `json:"said,omitempty" nullable:"false" doc:"what it noticed when it settled"`
	Change string   `json:"change,omitempty"`
	Task   int64    `json:"task,omitempty" doc:"that it was last asked to do"`
	Probe  int64    `json:"probe,omitempty" doc:"that another host was asked to do"`
	Prober string   `json:"prober,omitempty"`
	To     string   `json:"to,omitempty" doc:"the address and port that it is to reach"`
	Tried  int      `json:"tried,omitempty" doc:"probes that failed"`

	Until *time.Time `json:"until,omitempty" doc:"when a cloud is to have it in force"`
}

// Subject is what is put in force.
func (h WaveHost) Subject() string { return Subject{h.Name, h.Cloud}.String() }

// Waves are all waves, the newest first.
type Waves struct {
	Version int    `json:"version"`
	Waves   []Wave `json:"waves" nullable:"false"`
	Next    int64  `json:"next,omitempty" doc:"there are more: ask for those before this one"`
}
