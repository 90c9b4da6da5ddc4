package fence

import (
	"fmt"
	"slices"

	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/source"
)

// A Question asks what becomes of traffic:
//
//	[in [at IF]|out [at IF]|through [from IF] [to IF]] SRC [port N] -> DST : SERVICE
//	[state new|established|related|invalid|untracked] [user NAME] [unit NAME] [encrypted]
//
// What it does not say is left open, but for the state: new is meant.
type Question struct {
	Direction string // in, out, through, or "" for both ends
	In, Out   string // interfaces, "" for any
	From, To  Peers
	SrcPort   *packet.PortRange // nil is any
	Services  []ServiceTerm
	State     string
	User      string // "" is anybody
	Unit      string
	Encrypted bool // false is either
}

// questionForm is how a question is written, for messages.
const questionForm = "[in|out|through] SRC [port N] -> DST : SERVICE  [state STATE] [user NAME] [unit NAME] [encrypted]"

// States are the connection states, as questions name them.
var States = []string{"new", "established", "related", "invalid", "untracked"}

// Connection is the question what becomes of new connections from one end to another, each
// the name of a host or an address.
func Connection(from, to string, service ServiceTerm) *Question {
	end := func(text string) Peers {
		peer := Peer{Kind: NamedPeer, Name: text, Text: text}
		if item, problem := ParseAddress(text, source.Pos{}); problem == nil {
			peer.Kind, peer.Name, peer.Addr = AddressPeer, "", &item
		}
		return Peers{Items: []Peer{peer}}
	}
	return &Question{State: States[0], From: end(from), To: end(to), Services: []ServiceTerm{service}}
}

// PortTerm is one port of a protocol as a service.
func PortTerm(protocol, port int) ServiceTerm {
	return ServiceTerm{Text: fmt.Sprintf("%s %d", packet.ProtocolName(protocol), port), Protocols: []int{protocol},
		Ports: &packet.PortRange{Lo: port, Hi: port}}
}

// ParseQuestion reads a question, as people type it. Hosts are named there by their names
// alone. q is of use only where there are no problems.
func ParseQuestion(text string) (q *Question, problems []source.Problem) {
	p := &parser{scan: newScanner("question", text), asking: true}
	p.scan.fresh = false // it begins in the middle of a line, so to say
	p.cur = p.scan.next()
	q = &Question{State: States[0]}
	defer func() {
		if r := recover(); r != nil {
			if _, ok := r.(broken); !ok {
				panic(r)
			}
		}
		problems = append(p.problems, p.scan.problems...)
		source.SortProblems(problems)
	}()
	p.way(q)
	q.From = p.peers("question")
	if p.word("port") {
		q.SrcPort = p.portRange(p.want(Word, "a port", questionForm))
	}
	p.want(Arrow, `"->"`, questionForm)
	q.To = p.peers("question")
	p.want(Colon, `":" and a service`, questionForm)
	q.Services = p.services(questionForm)
	for p.more() {
		switch t := p.take(); {
		case t.Kind == Word && t.Text == "state":
			q.State = p.choice(States...).Word
		case t.Kind == Word && t.Text == "user":
			q.User = p.singleWord("a user's name", questionForm).Text
		case t.Kind == Word && t.Text == "unit":
			q.Unit = p.singleWord("a unit's name", questionForm).Text
		case t.Kind == Word && t.Text == "encrypted":
			q.Encrypted = true
		default:
			p.fail(t, "syntax", "state, user, unit, encrypted or the end", "it is written: %s", questionForm)
		}
	}
	return q, nil
}

// way takes the direction, and the interfaces it names.
func (p *parser) way(q *Question) {
	t := p.tok()
	if t.Kind != Word || !slices.Contains([]string{"in", "out", "through"}, t.Text) {
		return
	}
	q.Direction = p.take().Text
	at := func(word string, into *string) {
		if p.word(word) {
			*into = p.singleWord("an interface", questionForm).Text
		}
	}
	switch q.Direction {
	case "in":
		at("at", &q.In)
	case "out":
		at("at", &q.Out)
	default:
		at("from", &q.In)
		at("to", &q.Out)
	}
}
