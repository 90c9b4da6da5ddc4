package fence

import (
	"fmt"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/source"
)

// rule reads an allow or a block.
func (p *parser) rule(first Token) Stmt {
	r := &Rule{Block: first.Text == "block", Ident: p.named(first.Text)}
	r.From, r.To = p.sides(first.Text)
	p.want(Colon, `":" and the services`, p.form(first.Text))
	r.Services = p.services(p.form(first.Text))
	p.modifiers(first.Text, &modified{r, &r.Common})
	return r
}

// sides reads who begins and with whom.
func (p *parser) sides(keyword string) (from, to Peers) {
	from = p.peers(keyword)
	p.want(Arrow, `"->"`, p.form(keyword))
	return from, p.peers(keyword)
}

// peers reads one side: peers, and those that are not meant.
func (p *parser) peers(keyword string) Peers {
	peers := Peers{Pos: p.tok().Pos}
	peers.Items = p.peerList(keyword)
	if p.word("except") {
		peers.Except = p.peerList(keyword)
	}
	return peers
}

// peerList reads peers with commas between them. The list grows in a slice that all statements
// share, and is copied at its end.
func (p *parser) peerList(keyword string) []Peer {
	p.peersRead = p.peersRead[:0]
	for {
		p.peersRead = append(p.peersRead, p.peer(keyword))
		if !p.punct(Comma) {
			return slices.Clone(p.peersRead)
		}
	}
}

// peer reads a peer, and where it is meant alone (`at`).
func (p *parser) peer(keyword string) Peer {
	peer := p.plainPeer(keyword)
	if p.word("at") {
		where := p.plainPeer(keyword)
		peer.At = &where
		peer.Text += " at " + where.Text
	}
	return peer
}

// plainPeer takes a peer without the other whose it must be too.
func (p *parser) plainPeer(keyword string) Peer {
	const what = "a role, network, segment, host NAME, address, fleet, everywhere or strangers"
	t := p.want(Word, what, p.form(keyword))
	peer := Peer{Pos: t.Pos, Text: t.Text}
	switch {
	case t.Text == "fleet":
		peer.Kind = FleetPeer
	case t.Text == "everywhere":
		peer.Kind = EverywherePeer
	case t.Text == "strangers":
		peer.Kind = StrangersPeer
	case t.Text == "broadcast":
		peer.Kind = BroadcastPeer
	case t.Text == "multicast":
		peer.Kind = MulticastPeer
	case t.Text == "host":
		h := p.want(Word, "a host's name", "host NAME")
		peer.Kind, peer.Name, peer.Text = HostPeer, h.Text, "host "+h.Text
	case p.asking && hostNamed(t.Text):
		peer.Kind, peer.Name = NamedPeer, t.Text
	case qualified(t.Text):
		peer.Kind, peer.Name = NamedPeer, t.Text
	case looksLikeAddress(t.Text):
		item, pr := parseAddr(t)
		if pr != nil {
			p.problems = append(p.problems, *pr)
		}
		peer.Kind, peer.Addr = AddressPeer, &item
	case IsName(t.Text):
		peer.Kind, peer.Name = NamedPeer, t.Text
	case Reserved(t.Text):
		p.fail(t, "syntax", what, "%q is a word of the language", t.Text)
	default:
		hint := "a name is made of small letters, digits and hyphens and begins with a letter"
		if strings.HasSuffix(t.Text, ":") {
			hint = "the colon before the services stands between blanks"
		}
		p.fail(t, "name", what, "%s", hint)
	}
	return peer
}

// hostNamed says that a word with dots is a host's name and no address.
func hostNamed(word string) bool {
	if !strings.Contains(word, ".") || strings.ContainsAny(word, ":/") {
		return false
	}
	return strings.Trim(word, "0123456789.-") != ""
}

// modifiers reads modifiers in any order, each once, and only those that a statement of the
// kind has.
func (p *parser) modifiers(keyword string, into *modified) {
	p.said = p.said[:0]
	for p.more() {
		t := p.take()
		m := modifierFor(t.Text, keyword)
		if m == nil || t.Kind != Word {
			words := ModifiersOf(keyword)
			hint := "a modifier is one of " + strings.Join(words, ", ")
			if other := elsewhere[t.Text]; other != "" && t.Kind == Word {
				hint = other
			} else if near := source.Nearest(t.Text, words); near != "" && t.Kind == Word {
				hint = fmt.Sprintf("did you mean %q?", near)
			}
			p.fail(t, "modifier", "a modifier or the end of the statement", "%s", hint)
		}
		for _, before := range p.said {
			if before.Text == t.Text && t.Text != "knowingly" && t.Text != "from" && t.Text != "on" {
				p.report(t.errorf("twice", "%q is said twice", t.Text).Hinted("it was said before at %s; leave one", before.Pos))
			}
		}
		p.said = append(p.said, t)
		if !m.goesWith(keyword) {
			with := strings.ReplaceAll(m.on, " ", ", ")
			p.report(t.errorf("modifier", "%q goes with %s only", t.Text, with).Hinted("take it away"))
			if into.rule == nil {
				into.rule = &Rule{} // read it all the same, to nowhere
			}
		}
		m.parse(p, t, into)
		if r := into.rule; r != nil && r.Trial != nil && keyword != "block" && r.Trial.Pos == t.Pos {
			p.report(t.errorf("modifier", "on trial goes with block only, and with a closed stance").Hinted("take it away"))
		}
	}
}
