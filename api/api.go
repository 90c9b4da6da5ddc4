package api

import (
	"strings"
	"time"

	"yellowfence.example/yfence/core/approve"
	"yellowfence.example/yfence/core/ask"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/listeners"
	"yellowfence.example/yfence/core/source"
)

// Version is that of every JSON document of ours.
const Version = 1

// PublishRequest asks for a new revision.
type PublishRequest struct {
	Files   []check.Source `json:"files" maxItems:"2000" doc:"all files of the policy"`
	Fleet   *check.Source  `json:"fleet,omitempty" doc:"a fleet file that becomes the fleet with it, as one pair: both, or nothing"`
	Why     string         `json:"why" minLength:"1" maxLength:"2000" doc:"the reason, for the history"`
	After   *int64         `json:"after,omitempty" doc:"refuse if another revision than this is published; 0 is none"`
	Preview bool           `json:"preview,omitempty" doc:"tell what would be said of it, and publish nothing"`
	// Accept names checks whose errors do not stand in the way.
	Accept []string `json:"accept,omitempty" nullable:"false" doc:"codes of checks whose errors do not stop this publication; a policy that cannot be read is refused all the same"`
}

// Revision is one state of the policy in its history.
type Revision struct {
	Number      int64          `json:"number"`
	Author      string         `json:"author" doc:"the name of the token that published it"`
	Why         string         `json:"why"`
	PublishedAt time.Time      `json:"published_at"`
	Hash        string         `json:"hash" doc:"SHA-256 of its files, in hexadecimal"`
	Published   bool           `json:"published" doc:"it is the newest"`
	Accepted    []Accepted     `json:"accepted,omitempty" nullable:"false" doc:"problems that whoever published accepted"`
	Hosts       int            `json:"hosts" doc:"on how many hosts of the fleet it is in force, by their newest reports"`
	Files       []check.Source `json:"files,omitempty" doc:"where one revision is asked for"`
}

// Accepted is a problem in spite of which a revision was published.
type Accepted struct {
	Code    string `json:"code"`
	Message string `json:"message"`
}

// Revisions is the policy's history, the newest first.
type Revisions struct {
	Version   int        `json:"version"`
	Revisions []Revision `json:"revisions"`
	Total     int        `json:"total" doc:"how many hosts the fleet has"`
	Next      int64      `json:"next,omitempty" doc:"there are more: ask for those before this one"`
}

// Checked is the answer to a change that was accepted, with what was pointed out.
type Checked struct {
	Version    int              `json:"version"`
	Revision   int64            `json:"revision"`
	Generation int64            `json:"generation" doc:"of the fleet"`
	Problems   []source.Problem `json:"problems" doc:"warnings"`
	Changes    []fleet.Change   `json:"changes,omitempty" doc:"what changes in the fleet"`
	Same       bool             `json:"same,omitempty" doc:"of what is looked at: it is published already, word for word"`
	Need       *approve.Need    `json:"need,omitempty" doc:"which approvals it needs; what needs some is proposed, not published"`
}

// FleetFile is the fleet as a file.
type FleetFile struct {
	Version    int    `json:"version"`
	Generation int64  `json:"generation"`
	Format     string `json:"format" enum:"json,yaml,csv"`
	Text       string `json:"text"`
}

// ImportRequest replaces the fleet, or puts hosts over it.
type ImportRequest struct {
	File    string `json:"file" maxLength:"255" doc:"the fleet file's name, for messages; its ending tells the format"`
	Text    string `json:"text" doc:"the fleet file: JSON, YAML or CSV"`
	Why     string `json:"why,omitempty" maxLength:"2000"`
	After   *int64 `json:"after,omitempty" doc:"refuse if a person imported another generation than this; 0 is none"`
	Merge   bool   `json:"merge,omitempty" doc:"hosts of the same name are replaced, others added, none removed"`
	Preview bool   `json:"preview,omitempty" doc:"show what would change, and change nothing"`
}

// HostStatus is one host as it was last heard of.
type HostStatus struct {
	Name       string            `json:"name"`
	Roles      []string          `json:"roles"`
	Dialect    string            `json:"dialect"`
	Interfaces []fleet.Interface `json:"interfaces"`
	Instance   *fleet.Instance   `json:"instance,omitempty" doc:"its place in a cloud, whose groups filter for it too"`
	State      State             `json:"state"`
	Findings   int               `json:"findings" doc:"differences in meaning"`
	Cosmetic   int               `json:"cosmetic" doc:"differences that mean nothing"`
	HeardAt    *time.Time        `json:"heard_at,omitempty" doc:"when its last report came in"`
	Asked      int64             `json:"asked,omitempty" doc:"the revision it was last asked to settle"`
	InForce    int64             `json:"in_force,omitempty" doc:"the revision that is in force there, by its newest report; left out where it is none, or not known"`
	Change     *HostChange       `json:"change,omitempty" doc:"the last change that was made on it"`
	Why        string            `json:"why,omitempty" doc:"why it is paused, went back or failed"`
	Differs    []string          `json:"differs,omitempty" nullable:"false" doc:"what of its addresses is otherwise than the fleet file says"`
	Attends    *time.Time        `json:"attends,omitempty" doc:"when yfence attend last asked there what there is to do"`
}

// Tally counts hosts that were asked for.
type Tally struct {
	Total   int               `json:"total,omitempty" doc:"how many hosts are as it was asked for, in all parts"`
	Counts  map[string]int    `json:"counts,omitempty" doc:"how many of those are in which state"`
	InForce []RevisionInForce `json:"in_force,omitempty" nullable:"false" doc:"how many of those have which revision in force, the newest first"`
	Next    string            `json:"next,omitempty" doc:"there are more: ask for those after this one"`
}

// RevisionInForce is on how many hosts a revision is in force.
type RevisionInForce struct {
	Revision int64 `json:"revision" doc:"0 is none: they have no filter, one that somebody changed, or one that is not understood"`
	Hosts    int   `json:"hosts"`
}

// Fleet is all hosts.
type Fleet struct {
	Version    int           `json:"version"`
	Generation int64         `json:"generation"`
	Revision   int64         `json:"revision" doc:"that is published"`
	Policy     string        `json:"policy" doc:"the policy's name"`
	Service    fleet.Service `json:"service"`
	Hosts      []HostStatus  `json:"hosts"`
	Clouds     []CloudStatus `json:"clouds,omitempty" nullable:"false" doc:"that the service is connected to"`
	Tally
}

// Dump is one listing of rules.
type Dump = dialect.Dump

// InForce is what a host has in force, as its own tools list it.
type InForce struct {
	Dumps []Dump        `json:"dumps" required:"false" nullable:"false"`
	Names *kernel.Names `json:"names,omitempty" doc:"who the users and units are that the rules speak of"`

	Complete bool `json:"-"` // of dumps that people made by hand: they are all there is
}

// Report is what a host sends in.
type Report struct {
	_       struct{}  `additionalProperties:"true"` // a newer host may say more
	Version int       `json:"version" enum:"1"`
	Host    string    `json:"host"`
	TakenAt time.Time `json:"taken_at"`
	InForce
	Same   string            `json:"same,omitempty" doc:"instead of dumps and names: the hash of those that were reported before, as the answer to that told it"`
	Counts []Count           `json:"counts,omitempty" nullable:"false" doc:"what counters stand at; the dumps are without that. Beside same: of those that stand otherwise than before"`
	Tools  map[string]string `json:"tools,omitempty" doc:"versions of the kernel and its tools"`
	Around *HostFacts        `json:"surroundings,omitempty" doc:"what listens, which addresses the host has, what is loaded when it starts"`
}

// Count is what the counter of a rule, or a named one, stands at.
type Count struct {
	At      string `json:"at" doc:"the rule, as findings say it"`
	Packets int64  `json:"packets"`
	Bytes   int64  `json:"bytes"`

	By    string `json:"-"` // the statement that a rule of ours carries out, which decides there
	Chain string `json:"-"` // of ours, without what all of ours begin with
	Of    string `json:"-"` // the load of rules that it came with, where the kernel names these
}

// Drift is how hosts differ from what is published.
type Drift struct {
	Version  int         `json:"version"`
	Revision int64       `json:"revision"`
	Hosts    []HostDrift `json:"hosts"`

	Clouds []CloudStatus `json:"clouds,omitempty" nullable:"false" doc:"that the service is connected to, with what of their groups is not as it is to be"`
	Tally
}

// Lists are the lists that are read from an address.
type Lists struct {
	Version int          `json:"version"`
	Lists   []ListStatus `json:"lists" nullable:"false"`
}

// ListStatus is how a list stands that is read from an address.
type ListStatus struct {
	Network  string     `json:"network" doc:"whose addresses it holds"`
	File     string     `json:"file" doc:"of the policy, that it takes the place of"`
	URL      string     `json:"url"`
	Every    int        `json:"every" doc:"how often it is read, in seconds"`
	UpTo     int        `json:"up_to" doc:"how many lines it may have"`
	Changing int        `json:"changing" doc:"how many per cent of it may change without a person"`
	Entries  int        `json:"entries,omitempty" doc:"lines that it had when it was last read"`
	ReadAt   *time.Time `json:"read_at,omitempty" doc:"when it was last read"`
	TriedAt  *time.Time `json:"tried_at,omitempty" doc:"when that was last tried"`
	Failing  string     `json:"failing,omitempty" doc:"why it cannot be read; what was read before stays"`
	Waits    string     `json:"waits,omitempty" doc:"why what was read waits for a person; what was before stays"`
}

// CloudStatus is how a cloud stands that the service is connected to.
type CloudStatus struct {
	Cloud     string            `json:"cloud" doc:"its name, as the fleet file says it"`
	Account   string            `json:"account,omitempty"`
	ReadAt    *time.Time        `json:"read_at,omitempty" doc:"when all that it has was last read"`
	Failing   string            `json:"failing,omitempty" doc:"why it cannot be read or asked now"`
	Instances int               `json:"instances" doc:"how many it has"`
	Groups    int               `json:"groups" doc:"how many it has"`
	Waits     []string          `json:"waits,omitempty" nullable:"false" doc:"what it was asked for and is not in force yet"`
	Notes     []group.CloudNote `json:"notes,omitempty" nullable:"false"`
	Left      []string          `json:"left,omitempty" nullable:"false" doc:"what groups cannot tell, by host, and is left to the host's own filter"`
}

// HostDrift is how one host differs.
type HostDrift struct {
	Host     string            `json:"host"`
	State    State             `json:"state"`
	TakenAt  *time.Time        `json:"taken_at,omitempty"`
	Why      string            `json:"why,omitempty" doc:"why it is paused, went back or failed"`
	Hash     string            `json:"hash,omitempty" doc:"in answer to a report: of what it says is in force"`
	Findings []compare.Finding `json:"findings"`
	Unread   []string          `json:"unread,omitempty" doc:"what was not understood and could change the answer"`
}

// Listening is what listens on a host against what its policy admits.
type Listening struct {
	Version int             `json:"version"`
	Hosts   []HostListening `json:"hosts" nullable:"false"`
}

// HostListening is what listens on one host.
type HostListening struct {
	Host    string           `json:"host"`
	TakenAt *time.Time       `json:"taken_at,omitempty"`
	Untold  string           `json:"untold,omitempty" doc:"why it is not known"`
	Notes   []listeners.Note `json:"notes" nullable:"false"`
}

// CompareRequest names two states of the policy: what is published, another
// revision, or files that are not published.
type CompareRequest struct {
	From Side `json:"from,omitzero" required:"false" doc:"nothing said: what is published"`
	To   Side `json:"to,omitzero" required:"false" doc:"nothing said: what is published"`
}

// Side is one state of the policy.
type Side struct {
	Revision int64          `json:"revision,omitempty" doc:"by its number"`
	Files    []check.Source `json:"files,omitempty" nullable:"false" doc:"all files of a policy"`
	Fleet    *check.Source  `json:"fleet,omitempty" doc:"with files: the fleet file that they are of; nothing said: the newest fleet"`
}

// Comparison is what two states of the policy let through differently, over the newest fleet.
type Comparison struct {
	Version int `json:"version"`
	compare.Changes
	Cuts *Cuts `json:"cuts,omitempty" doc:"which connections that were seen the second side refuses and the first admits"`
}

// Question asks what becomes of traffic.
type Question struct {
	Question string `json:"question" minLength:"1" maxLength:"4000" doc:"SRC -> DST : SERVICE, as yfence ask takes it"`

	At *time.Time `json:"at,omitempty" doc:"answer by what hosts had in force then, as they had reported it; nothing said: by what is published"`
}

// Answer is what becomes of all packets a question speaks of.
type Answer struct {
	Version  int    `json:"version"`
	Question string `json:"question"`
	ask.Answer
	At      *time.Time     `json:"at,omitempty" doc:"the answer goes by what hosts had in force then"`
	InForce *AnswerInForce `json:"in_force,omitempty" doc:"how much of what the answer goes by is in force; the service tells it"`
}

// AnswerInForce is on how many of the hosts that an answer is about the published revision
// is in force.
type AnswerInForce struct {
	Revision int64    `json:"revision" doc:"that is published"`
	Hosts    int      `json:"hosts" doc:"on so many it is in force"`
	Of       int      `json:"of" doc:"the answer is about so many"`
	Not      []string `json:"not,omitempty" nullable:"false" doc:"the first few on which it is not"`
}

// Rules is what a host's filter is to be.
type Rules struct {
	Version    int     `json:"version"`
	Host       string  `json:"host"`
	Revision   int64   `json:"revision"`
	Generation int64   `json:"generation"`
	Pair       int64   `json:"pair" doc:"the number of both together"`
	Dialect    string  `json:"dialect"`
	Kind       string  `json:"kind,omitempty" enum:"pause,ground" doc:"if these are not the policy's own rules"`
	OwnConsole bool    `json:"own_console,omitempty" doc:"the host can be reached without the network"`
	Text       string  `json:"text" doc:"all files, to be read"`
	Files      []File  `json:"files" doc:"the rules as the host loads them, in this order"`
	Chains     []Chain `json:"chains"`
	Signature  string  `json:"signature,omitempty" doc:"by the service, of all that the host goes by"`
}

// File is rules for one of the kernel's tools.
type File = dialect.File

// TextOf puts files together as people read them.
func TextOf(files []File) string {
	texts := make([]string, len(files))
	for i, f := range files {
		texts[i] = f.Text
	}
	return strings.Join(texts, "\n")
}

// LiveRules is what a host's filter was when it last reported.
type LiveRules struct {
	Version int        `json:"version"`
	Host    string     `json:"host"`
	TakenAt *time.Time `json:"taken_at,omitempty"`
	Unread  string     `json:"unread,omitempty" doc:"why the dump could not be read"`
	Chains  []Chain    `json:"chains"`
	// Sets are those that rules in force ask by name.
	Sets []NamedSet `json:"sets,omitempty" nullable:"false" doc:"sets and maps that rules in force ask by name"`
	// Published is what the host is held against, told in the same terms.
	Published []Chain `json:"published"`
}

// NamedSet is a set, or a map, that rules ask by its name.
type NamedSet struct {
	Table    string   `json:"table,omitempty" doc:"family and table that it is of; sets of ipset are of none"`
	Name     string   `json:"name"`
	Elements []string `json:"elements" nullable:"false" doc:"the first of them, as the kernel lists them"`
	Total    int      `json:"total" doc:"how many elements it has"`
	Changes  bool     `json:"changes,omitempty" doc:"elements come and go by themselves"`
}

// Chain is a list of rules in the order in which they are tried.
type Chain struct {
	Place  string `json:"place" doc:"family, table and chain"`
	Hook   string `json:"hook,omitempty"`
	Policy string `json:"policy,omitempty" doc:"what becomes of packets that no rule decides"`
	Rules  []Rule `json:"rules"`
	Ours   bool   `json:"ours,omitempty" doc:"it is one that we write and own; else somebody else's"`

	Priority *int `json:"priority,omitempty" doc:"of a chain at a hook: the lower is asked first"`
}

// Rule is one rule.
type Rule struct {
	Text    string   `json:"text"`
	By      string   `json:"by,omitempty" doc:"what it comes from: a rule of the policy, a part of the ground"`
	At      string   `json:"at,omitempty" doc:"where that stands: file, line and column, or a handle of the dump"`
	Packets *int64   `json:"packets,omitempty" doc:"what its counter stood at, if it has one"`
	Bytes   *int64   `json:"bytes,omitempty" doc:"likewise"`
	To      []string `json:"to,omitempty" nullable:"false" doc:"the chains that it goes on in, by their places"`
	Twin    bool     `json:"twin,omitempty" doc:"of live and published rules side by side: a rule that means the same is on the other side too"`
}

// Language is the words of the policy language, for highlighting.
type Language struct {
	Version    int       `json:"version"`
	Statements []Keyword `json:"statements" nullable:"false" doc:"what can begin a statement"`
	Modifiers  []Keyword `json:"modifiers" nullable:"false" doc:"what can follow the services of a rule"`
}

// Keyword is one word of the language.
type Keyword struct {
	Word  string `json:"word"`
	Form  string `json:"form" doc:"how it is written"`
	Means string `json:"means"`
}

// TokenRequest asks for a new token.
type TokenRequest struct {
	Name   string  `json:"name" minLength:"1" maxLength:"100" pattern:"^[^\\p{Cc}\\p{Cf}\\p{Zl}\\p{Zp}]+$" patternDescription:"characters that can be printed" doc:"who or what will use it"`
	Rights []Right `json:"rights" maxItems:"20" doc:"as settle, or settle:charts,broker for the hosts of some roles"`
	Host   string  `json:"host,omitempty" maxLength:"253" doc:"the host whose own token it is; it then has the right host"`

	Until *time.Time `json:"until,omitempty" doc:"when it ends; if not said, a host's own token does not, and another after 90 days"`
	For   string     `json:"for,omitempty" maxLength:"300" doc:"what it is for"`
}

// Token is a token without its secret.
type Token struct {
	ID        int64      `json:"id"`
	Name      string     `json:"name"`
	Rights    []Right    `json:"rights"`
	Host      string     `json:"host,omitempty"`
	For       string     `json:"for,omitempty" doc:"what it is for"`
	CreatedAt time.Time  `json:"created_at"`
	Until     *time.Time `json:"until,omitempty" doc:"when it ends; left out where it does not"`
	UsedAt    *time.Time `json:"used_at,omitempty" doc:"when it was last used, to some minutes"`
	RevokedAt *time.Time `json:"revoked_at,omitempty"`
}

// NewToken is a token with its secret, which is told this once.
type NewToken struct {
	Token
	Secret string `json:"secret"`
}

// TokenList is all tokens.
type TokenList struct {
	Version int     `json:"version"`
	Tokens  []Token `json:"tokens"`
	Next    int64   `json:"next,omitempty" doc:"there are more: ask for those before this one"`
}

// Session is who is signed in to the console.
type Session struct {
	Name   string  `json:"name"`
	Rights []Right `json:"rights"`
}
