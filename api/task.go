package api

import (
	"crypto/ed25519"
	"net/netip"
	"time"

	"yellowfence.example/yfence/core/listeners"
)

// A TaskKind is what a host is asked to do.
type TaskKind string

// The tasks. DoPause and DoResume are what people ask for; the host is asked to settle for a
// while, and to take that back.
const (
	DoSettle      TaskKind = "settle"
	DoKeep        TaskKind = "keep"
	DoTakeBack    TaskKind = "take back"
	DoPutBack     TaskKind = "put back"
	DoProbe       TaskKind = "probe"
	DoListen      TaskKind = "listen"
	DoReport      TaskKind = "report"
	DoConnections TaskKind = "connections"
	DoPause       TaskKind = "pause"
	DoResume      TaskKind = "resume"
)

// A Task is something that a host is asked to do, signed by the service: a host does
// nothing that nobody asked for whom it trusts.
type Task struct {
	ID   int64    `json:"id"`
	Host string   `json:"host"`
	Do   TaskKind `json:"do" enum:"settle,keep,take back,put back,probe,listen,report,connections"`
	// What it is about.
	Change string     `json:"change,omitempty" doc:"the change that is to be kept or taken back"`
	Pair   int64      `json:"pair,omitempty" doc:"the pair to settle"`
	Pause  bool       `json:"pause,omitempty" doc:"to settle for a while: everything is admitted, and what would be refused is logged"`
	Ground bool       `json:"ground,omitempty" doc:"to settle apply only the ground and the guards"`
	Copy   int        `json:"copy,omitempty" doc:"the copy to put back, by its number"`
	Proof  *KeepProof `json:"proof,omitempty" doc:"for a keep"`
	Probe  *Probe     `json:"probe,omitempty" doc:"the connection to open, or to be ready for"`
	Within string     `json:"within,omitempty" doc:"the time for the keep, or the length of a pause, as 90s or 2h"`
	Cut    bool       `json:"cut,omitempty" doc:"to cut the connections that are found"`
	Why    string     `json:"why,omitempty"`
	Force  bool       `json:"force,omitempty" doc:"go on where the change cuts off log-ins or the service"`

	Asked     time.Time `json:"asked"`
	Until     time.Time `json:"until" doc:"when nobody waits for it any more"`
	Signature string    `json:"signature"`
}

// Sign signs a task.
func (t *Task) Sign(key ed25519.PrivateKey) {
	t.Signature = ""
	t.Signature = sign(key, "task", *t)
}

// Verify holds a task against the keys whose word counts.
func (t Task) Verify(pins []ed25519.PublicKey) error {
	signature := t.Signature
	t.Signature = ""
	return verify(pins, "task", t, signature)
}

// A Probe is a connection to open.
type Probe struct {
	Protocol string `json:"protocol" enum:"tcp,udp,icmp"`
	To       string `json:"to" doc:"the address"`
	Port     int    `json:"port,omitempty"`
	From     string `json:"from,omitempty" doc:"the address to open it from"`
}

// TaskResult is what became of a task.
type TaskResult struct {
	Failed  string      `json:"failed,omitempty" doc:"why it was not done"`
	Said    []string    `json:"said,omitempty" doc:"what there is to say besides"`
	Change  *HostChange `json:"change,omitempty" doc:"how the change stands that it made"`
	Came    string      `json:"came,omitempty" enum:"answered,refused,silent,unreachable,listening" doc:"of a probe: what came of it"`
	Took    float64     `json:"took,omitempty" doc:"milliseconds, of a probe"`
	Reached string      `json:"reached,omitempty" doc:"who answered: our own listener, or what listens there"`
	From    string      `json:"from,omitempty" doc:"of a probe: the address that it was opened from"`

	Connections []OpenConnection `json:"connections,omitempty" nullable:"false"`
}

// OwnListener is who answers a probe where nothing but a listener of ours listens.
const OwnListener = "our own listener"

// Answers says, of what a host said that was to listen, that whoever comes gets an answer.
// What speaks UDP there already says nothing to strangers.
func (r TaskResult) Answers(protocol string) bool {
	return r.Failed == "" && (protocol != "udp" || r.Reached == OwnListener)
}

// TaskStatus is a task and what became of it.
type TaskStatus struct {
	Task
	Done   *time.Time  `json:"done,omitempty"`
	Result *TaskResult `json:"result,omitempty"`
}

// Tasks is what a host has to do, and the keys of its service.
type Tasks struct {
	Version int    `json:"version"`
	Tasks   []Task `json:"tasks" nullable:"false"`
	Keys    Keys   `json:"keys"`
	// ReportEvery is how often the service expects reports.
	ReportEvery int `json:"report_every,omitempty" doc:"how often the host is to report, in seconds"`
}

// Keys are the keys that a service signs with: the first now, others later. A host
// that trusts one of the signers takes all of them over.
type Keys struct {
	Keys      []Key  `json:"keys" nullable:"false"`
	Signature string `json:"signature"`
}

// Sign signs the keys with the one in use.
func (k *Keys) Sign(key ed25519.PrivateKey) { k.Signature = sign(key, "keys", k.Keys) }

// Verify holds the keys against those that a host trusts so far.
func (k Keys) Verify(pins []ed25519.PublicKey) error {
	return verify(pins, "keys", k.Keys, k.Signature)
}

// said is what of a host's rules is signed.
func (r Rules) said() any {
	return struct {
		Host                       string
		Pair, Revision, Generation int64
		Dialect                    string
		OwnConsole                 bool
		Kind                       string
		Files                      []File
	}{r.Host, r.Pair, r.Revision, r.Generation, r.Dialect, r.OwnConsole, r.Kind, r.Files}
}

// Sign signs the rules.
func (r *Rules) Sign(key ed25519.PrivateKey) { r.Signature = sign(key, "rules", r.said()) }

// Verify holds the rules against the keys whose word counts.
func (r Rules) Verify(pins []ed25519.PublicKey) error {
	return verify(pins, "rules", r.said(), r.Signature)
}

// EnrolRequest is how a new host trades its one-time token for its own.
type EnrolRequest struct {
	Token  string            `json:"token" minLength:"1" doc:"the one-time token"`
	Filter []string          `json:"filter,omitempty" nullable:"false" doc:"which filters the host has tools for: nft, iptables-legacy, iptables-nft"`
	Tools  map[string]string `json:"tools,omitempty" doc:"versions of the kernel and its tools"`
	Lacks  []string          `json:"lacks,omitempty" nullable:"false" doc:"what it cannot do"`
}

// Enrolled is a new host's own token and whom it is to trust.
type Enrolled struct {
	Version int    `json:"version"`
	Host    string `json:"host" doc:"its name in the fleet"`
	Secret  string `json:"secret" doc:"its own token, which is told this once"`
	Keys    []Key  `json:"keys" nullable:"false" doc:"of the service, to be pinned"`
}

// Enrolment is a one-time token for one host.
type Enrolment struct {
	Version int       `json:"version"`
	Host    string    `json:"host"`
	Token   string    `json:"token" doc:"it works once, and is told this once"`
	Until   time.Time `json:"until"`
}

// CopyNote is a copy that a host keeps of what it had in force.
type CopyNote struct {
	Number  int       `json:"number"`
	TakenAt time.Time `json:"taken_at"`
	Before  string    `json:"before" doc:"what it was taken for"`
	Rules   int       `json:"rules" doc:"how many lines of rules it holds, anybody's"`
	Text    string    `json:"text,omitempty" doc:"all of it, to be read"`
}

// Copies are all copies that a host keeps, the newest first.
type Copies struct {
	Version int        `json:"version"`
	Host    string     `json:"host"`
	Copies  []CopyNote `json:"copies" nullable:"false"`
}

// ProbeRequest asks to try connections for real.
type ProbeRequest struct {
	Question     string `json:"question,omitempty" maxLength:"4000" doc:"A -> B : SERVICE; hosts or roles"`
	Expectations bool   `json:"expectations,omitempty" doc:"instead: what the policy expects, tried between hosts that attend"`
	Listen       bool   `json:"listen,omitempty" doc:"open a listener for it where nothing listens"`
}

// Probed are connections that were tried.
type Probed struct {
	Version int           `json:"version"`
	Probes  []ProbeResult `json:"probes" nullable:"false"`
	Left    []string      `json:"left,omitempty" doc:"what was not tried, and why"`
}

// Answered is what comes of a connection to which somebody answers.
const Answered = "answered"

// Agrees says whether what came of a connection is what the policy says: "yes", "no",
// or "open" where nobody may be listening.
func Agrees(came string, admitted, listening bool, protocol string) string {
	switch {
	case (came == Answered) == admitted:
		return "yes"
	case admitted && !listening && (came == "refused" || protocol == "udp"):
		return "open"
	}
	return "no"
}

// ProbeResult is one connection that was tried, beside what the policy says of it.
type ProbeResult struct {
	From    string  `json:"from" doc:"the host that opened it"`
	To      string  `json:"to" doc:"the host that it was to reach"`
	Address string  `json:"address"`
	Source  string  `json:"source,omitempty" doc:"the address that it was opened from"`
	Service string  `json:"service"`
	For     string  `json:"for,omitempty" doc:"the expectation that it is about"`
	Came    string  `json:"came" enum:"answered,refused,silent,unreachable,untried" doc:"what came of it"`
	Reached string  `json:"reached,omitempty" doc:"who answered"`
	Why     string  `json:"why,omitempty"`
	Took    float64 `json:"took,omitempty" doc:"milliseconds"`
	Policy  string  `json:"policy" enum:"admitted,dropped,rejected,mixed,uncertain" doc:"what ask says of it"`
	Agrees  string  `json:"agrees" enum:"yes,no,open" doc:"whether both say the same; open where nobody listens, which may look the same as a refusal"`
}

// HostFacts is what a host reports besides its rules.
type HostFacts struct {
	Listeners  []listeners.Listener `json:"listeners,omitempty" nullable:"false"`
	Runs       []string             `json:"runs,omitempty" nullable:"false" doc:"services of its own that run, by their units"`
	Interfaces []SeenInterface      `json:"interfaces,omitempty" nullable:"false" doc:"but for loopback, with the addresses that others can reach"`
	Routes     []string             `json:"routes_for,omitempty" nullable:"false" doc:"the families that the host forwards"`
	Boot       *Boot                `json:"boot,omitempty" doc:"what is loaded when the host starts"`
	Untold     map[string]string    `json:"untold,omitempty" doc:"what could not be told, and why"`
}

// SeenInterface is an interface as the host has it.
type SeenInterface struct {
	Name      string         `json:"name"`
	Up        bool           `json:"up"`
	Addresses []netip.Prefix `json:"addresses" nullable:"false"`
}

// Boot is what is loaded when a host starts.
type Boot struct {
	Unknown string      `json:"unknown,omitempty" doc:"why it is not known"`
	Ours    bool        `json:"ours" doc:"our unit loads what was kept"`
	Kept    *HostChange `json:"kept,omitempty" doc:"what was last kept"`
	Same    bool        `json:"same,omitempty" doc:"what is loaded then is what is in force now"`
	InForce *InForce    `json:"in_force,omitempty" doc:"what is in force then, where it is not what is in force now"`
	Dump    string      `json:"dump,omitempty" doc:"the hash of that, once it is stored"`
	Loads   []BootFile  `json:"loads,omitempty" nullable:"false" doc:"by units of the distribution"`
}

// BootFile is a file of rules that is loaded when a host starts.
type BootFile struct {
	By   string `json:"by" doc:"the unit"`
	File string `json:"file"`
	Kind string `json:"kind" doc:"the kind of dump that it is like"`
	Hash string `json:"hash"`
}

// OpenConnection is a connection that is open and would not be admitted now.
type OpenConnection struct {
	Protocol string `json:"protocol"`
	From     string `json:"from" doc:"address and port of whoever opened it"`
	To       string `json:"to"`
	State    string `json:"state,omitempty"`
	Cut      bool   `json:"cut,omitempty" doc:"it was cut, and was looked for afterwards"`
	Why      string `json:"why,omitempty" doc:"why it could not be cut"`
}

// Connections are such connections of a host.
type Connections struct {
	Version     int              `json:"version"`
	Host        string           `json:"host"`
	Connections []OpenConnection `json:"connections" nullable:"false"`
}
