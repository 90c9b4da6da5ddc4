package fence

import "yellowfence.example/yfence/core/source"

// A Reference is a place where a name stands: where it is declared or used.
type Reference struct {
	Ident
	Width int  // of the name as it is written there, in characters
	Rule  bool // of a rule or expectation, whose names are a set of their own
	Decl  bool // it is declared here
}

// References lists every name of a file that is declared in policies, in the
// order of the statements. Host names are the fleet's and not among them.
func References(file *File) (out []Reference) {
	file.names(func(name *string, pos source.Pos, rule, decl bool) {
		out = append(out, Reference{Ident{*name, pos}, len(*name), rule, decl})
	})
	return out
}

// names calls f with every name of a file, in the order of the statements; f may change it.
func (file *File) names(f func(name *string, pos source.Pos, rule, decl bool)) {
	for _, stmt := range file.Stmts {
		namesOf(stmt, f)
	}
}

// namesOf calls f for each name in a statement: those that it declares, and those that it
// means. f may change them, which is how a part's names are qualified and how a name is changed
// everywhere.
func namesOf(stmt Stmt, f func(name *string, pos source.Pos, rule, decl bool)) {
	// What a statement is made of, each with its names. Texts are made anew from them, since a name
	// may have been changed.
	declared := func(i *Ident, rule bool) { f(&i.Name, i.Pos, rule, true) }
	each := func(names []Ident) {
		for i := range names {
			f(&names[i].Name, names[i].Pos, false, false)
		}
	}
	addrs := func(items []AddrItem) {
		for i := range items {
			if item := &items[i]; item.Name != "" {
				f(&item.Name, item.Pos, false, false)
				item.Text = item.Name
			}
		}
	}
	var peer func(p *Peer)
	peer = func(p *Peer) {
		if p.Kind == NamedPeer {
			f(&p.Name, p.Pos, false, false)
		}
		if p.At != nil {
			peer(p.At)
		}
		p.Text = p.text()
	}
	peers := func(list []Peer) {
		for i := range list {
			peer(&list[i])
		}
	}
	side := func(p *Peers) {
		peers(p.Items)
		peers(p.Except)
	}
	var terms func(list []ServiceTerm)
	terms = func(list []ServiceTerm) {
		for i := range list {
			t := &list[i]
			if terms(t.Except); t.Except != nil {
				t.Text = "any except " + services(t.Except)
			}
			if t.Name != "" {
				f(&t.Name, t.Pos, false, false)
				t.Text = t.Name
			}
		}
	}
	ground := func(parts []GroundPart) {
		for i := range parts {
			side(&parts[i].From)
		}
	}
	// By kind of statement: what it declares comes first.
	switch d := stmt.(type) {
	case *NetworkDecl:
		declared(&d.Ident, false)
		addrs(d.Addrs.Items)
		addrs(d.Addrs.Except)
	case *ServiceDecl:
		declared(&d.Ident, false)
		terms(d.Terms)
	case *PeersDecl:
		declared(&d.Ident, false)
		side(&d.Peers)
	case *PartDecl:
		each(d.For)
	case *JoinDecl:
		each(d.Networks)
		each(d.Through)
	case *GroundDecl:
		ground(d.Parts)
	case *RoleDecl:
		declared(&d.Ident, false)
		ground(d.Ground)
	case *Rule:
		declared(&d.Ident, true)
		side(&d.From)
		side(&d.To)
		terms(d.Services)
		peers(d.Within)
		each(d.On)
		each(d.Arriving)
		each(d.Through)
		for i := range d.Over {
			f(&d.Over[i].Name, d.Over[i].Pos, true, false)
		}
	case *Redirect:
		declared(&d.Ident, true)
		side(&d.From)
		side(&d.To)
		each(d.Through)
		if d.Target != nil {
			peer(d.Target)
		}
	case *Masquerade:
		declared(&d.Ident, true)
		side(&d.From)
		side(&d.To)
		each(d.Through)
	case *Leave:
		declared(&d.Ident, true)
		side(&d.Peers)
	case *Expectation:
		declared(&d.Ident, true)
		side(&d.From)
		side(&d.To)
		terms(d.Services)
		peers(d.Within)
		each(d.On)
		each(d.Through)
	}
}

// Help says how a keyword is written and what it means, from the tables of the language; ok is
// false for a word that is none.
func Help(word string) (form, means string, ok bool) {
	for _, s := range statements {
		if s.Keyword == word {
			return s.Form, s.Means, true
		}
	}
	for _, m := range modifiers {
		switch {
		case m.Keyword != word:
		case ok: // it says two things
			return form + " | " + m.Form, means + "; or it " + m.Means, true
		default:
			form, means, ok = m.Form, m.Means, true
		}
	}
	return form, means, ok
}
