package limits

import (
	"fmt"
	"strings"
	"time"

	"yellowfence.example/yfence/core/ask"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/policy"
)

// What a request may bring.
const (
	Body       = 64 << 10 // bytes of an ordinary request
	PolicyBody = 32 << 20 // bytes of a policy with its lists, or of a fleet file
	ReportBody = 32 << 20 // bytes of a report, or of the copies a host keeps
	Traffic    = 2 << 20  // bytes of what a host tells of its traffic at once
	Words      = 2000     // characters of a reason
	Copies     = 100      // copies that a host tells of
)

// What the work that a request starts may take.
const (
	Cases       = 4_000_000        // edges of diagrams, see packet.Space.Bound
	ComputeTime = 20 * time.Second // of one piece of work
	Computing   = 1                // pieces of work at once
	ComputeWait = 4                // that wait for their turn
	AskTime     = 5 * time.Second
	Asking      = 1
	AskWait     = 8
	ListBytes   = 4 << 20   // of a list that is read from an address
	JudgeCases  = 6_000_000 // for the rules of one host; internal/live works within it
	JudgeTime   = 30 * time.Second
	Judging     = 1
	JudgeWait   = 50_000 // hosts whose reports wait to be read
)

// How much anybody may ask for.
const (
	ReportQuota  = 256 << 20 // bytes that the differing reports of one host may have in a day
	SignIns      = 10        // failed sign-ins from one address in a minute
	HostTokens   = 5         // tokens in force of one host
	PeopleTokens = 1000      // tokens in force that are no host's
	Polls        = 4         // questions for tasks that one host may have open
	Page         = 1000      // entries of a list in one answer
	Key          = 128       // characters of a request's key
	KeptAnswer   = 64 << 10  // bytes of an answer that is kept, to be given again
	TaggedAnswer = 4 << 20   // bytes of an answer that is held back to be tagged
	StreamsEach  = 10        // streams of what happens that one name has open
	Streams      = 400       // that all have
)

// A Limit is one bound.
type Limit struct {
	What     string // is bounded
	Bound    string
	Protects string
	Answer   string // what whoever goes beyond it is told
}

// All is every bound, in the order in which they are documented.
var All = []Limit{
	{"an ordinary request", mib(Body), "memory", "413"},
	{"a request with a policy or a fleet file", mib(PolicyBody), "memory", "413"},
	{"a report, or what a host tells of its copies", mib(ReportBody), "memory", "413"},
	{"the statements of a policy, as text", mib(policy.MaxText), "memory and time",
		"422: the policy has N MiB of statements, more than the 4 MiB that are read"},
	{"the statements of a policy", fmt.Sprint(policy.MaxStatements), "time",
		"422: the policy has N statements, more than the 10000 that are read"},
	{"the lines of a policy's lists of addresses", fmt.Sprint(policy.MaxListed), "memory and time",
		"422: the lists hold N lines, more than the 500000 that are read"},
	{"a fleet file", mib(fleet.MaxFile), "memory", "422, and 413 before that"},
	{"the hosts of a fleet file", fmt.Sprint(fleet.MaxHosts), "memory and time",
		"422: the fleet file is too large to be read; it may have up to 200000 hosts"},
	{"how deep a fleet file is nested", "32", "memory and time", "422: lists and objects stand in one another more than 32 deep"},
	{"what a host tells of its traffic at once", mib(Traffic), "memory and the database", "413"},
	{"a reason", fmt.Sprintf("%d characters", Words), "the database", "422"},
	{"the copies that a host tells of", fmt.Sprint(Copies), "the database", "422"},
	{"what a comparison, a publish or an import works out", fmt.Sprintf("%d million cases, %s", Cases/1_000_000, ComputeTime),
		"memory and time", "422: too complex to decide exactly"},
	{"how many of those are worked out at once", fmt.Sprintf("%d, and %d that wait", Computing, ComputeWait), "memory and time",
		"503 with Retry-After"},
	{"what a question works out", fmt.Sprintf("%d million cases, %s", Cases/1_000_000, AskTime), "memory and time",
		"422: too complex to decide exactly"},
	{"how many questions are answered at once", fmt.Sprintf("%d, and %d that wait", Asking, AskWait), "memory and time",
		"503 with Retry-After"},
	{"what the rules of one host are compared with", fmt.Sprintf("%d million cases, %s", JudgeCases/1_000_000, JudgeTime),
		"memory and time", "the host is unread, with the reason"},
	{"how many hosts' rules are compared at once", fmt.Sprintf("%d, one report of a host at a time; %d wait", Judging, JudgeWait),
		"memory and time", "the host's last report is being read"},
	{"the reports of one host in a day that say something new", mib(ReportQuota), "the database's disk", "429 with Retry-After"},
	{"failed sign-ins from one address", fmt.Sprintf("%d in a minute", SignIns), "tokens, from being guessed", "429 with Retry-After"},
	{"tokens of one host that are in force", fmt.Sprint(HostTokens), "the database", "409: revoke one first"},
	{"tokens of people and programs that are in force", fmt.Sprint(PeopleTokens), "the database", "409: revoke one first"},
	{"questions for tasks that one host has open", fmt.Sprint(Polls), "connections", "429 with Retry-After"},
	{"streams of what happens that one name has open", fmt.Sprintf("%d, and %d of all", StreamsEach, Streams), "connections",
		"429 with Retry-After"},
	{"the key of a request", fmt.Sprintf("%d characters", Key), "the database", "422"},
	{"entries of a list in one answer", fmt.Sprint(Page), "memory and time",
		"422: expected number <= 1000; the answer says where the next part begins"},
	{"the roles and networks of a matrix (reach)", fmt.Sprint(ask.MostEnds), "time",
		"200: the first of them, and how many more there are"},
}

// mib is a size in bytes as people read it.
func mib(n int) string {
	if n < 1<<20 {
		return fmt.Sprintf("%d KiB", n>>10)
	}
	return fmt.Sprintf("%d MiB", n>>20)
}

// Markdown is docs/limits.md.
func Markdown() string {
	var b strings.Builder
	b.WriteString("# Limits\n\nWhatever comes from outside is bounded before it costs anything: in size, in memory, in time, and in how " +
		"much of it is done at once.\n" +
		"This page is made from a table in the code (`internal/limits`), and a test reaches every line of it.\n\n| what | bound | what " +
		"that protects | who goes beyond it gets |\n|---|---|---|---|\n")
	for _, l := range All {
		fmt.Fprintf(&b, "| %s | %s | %s | %s |\n", l.What, l.Bound, l.Protects, l.Answer)
	}
	b.WriteString("\nA million cases take about 50 MB. A policy of 2,000 statements for 10,000 hosts in 200 roles takes 1.4 million.\n" +
		"Requests of people, reports of hosts and the service's own work have connections to the database of their own. An operator's " +
		"request never waits for a report.\n")
	return b.String()
}
