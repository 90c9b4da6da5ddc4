package fence

// A Reference is a place where a name stands: where it is declared or used.
type Reference struct {
	Ident
	Rule bool // of a rule or expectation, whose names are a set of their own
	Decl bool // it is declared here
}

// References lists every name of a file that is declared in policies, in the
// order of the statements. Host names are the fleet's and not among them.
func References(file *File) (out []Reference) {
	use := func(i Ident) { out = append(out, Reference{Ident: i}) }
	each := func(names []Ident) {
		for _, i := range names {
			use(i)
		}
	}
	addrs := func(items []AddrItem) {
		for _, item := range items {
			if item.Name != "" {
				use(Ident{item.Name, item.Pos})
			}
		}
	}
	side := func(p Peers) {
		for _, items := range [][]Peer{p.Items, p.Except} {
			for _, peer := range items {
				for of := &peer; of != nil; of = of.At {
					if of.Kind == NamedPeer {
						use(Ident{of.Name, of.Pos})
					}
				}
			}
		}
	}
	var terms func(list []ServiceTerm)
	terms = func(list []ServiceTerm) {
		for _, t := range list {
			terms(t.Except)
			if t.Name != "" {
				use(Ident{t.Name, t.Pos})
			}
		}
	}
	for _, stmt := range file.Stmts {
		switch stmt.(type) {
		case *PolicyDecl, *GroundDecl, *JoinDecl: // which declare no name that is used
		case *NetworkDecl, *ServiceDecl, *RoleDecl, *PeersDecl:
			out = append(out, Reference{Ident: stmt.Declared(), Decl: true})
		default:
			out = append(out, Reference{Ident: stmt.Declared(), Decl: true, Rule: true})
		}
		switch d := stmt.(type) {
		case *NetworkDecl:
			addrs(d.Addrs.Items)
			addrs(d.Addrs.Except)
		case *ServiceDecl:
			terms(d.Terms)
		case *PeersDecl:
			side(d.Peers)
		case *JoinDecl:
			each(d.Networks)
			each(d.Through)
		case *GroundDecl:
			for _, p := range d.Parts {
				side(p.From)
			}
		case *RoleDecl:
			for _, p := range d.Ground {
				side(p.From)
			}
		case *Rule:
			side(d.From)
			side(d.To)
			terms(d.Services)
			side(Peers{Items: d.Within})
			each(d.On)
			each(d.Arriving)
			each(d.Through)
			for _, o := range d.Over {
				out = append(out, Reference{Ident: o, Rule: true})
			}
		case *Redirect:
			side(d.From)
			side(d.To)
			each(d.Through)
			if d.Target != nil {
				side(Peers{Items: []Peer{*d.Target}})
			}
		case *Masquerade:
			side(d.From)
			side(d.To)
			each(d.Through)
		case *Leave:
			side(d.Peers)
		case *Expectation:
			side(d.From)
			side(d.To)
			terms(d.Services)
			side(Peers{Items: d.Within})
			each(d.On)
			each(d.Through)
		}
	}
	return out
}

// Help says how a keyword is written and what it means; ok is false for a word that is none.
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
