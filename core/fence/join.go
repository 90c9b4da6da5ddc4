package fence

// A JoinDecl says that there is a way between networks, and by whom.
type JoinDecl struct {
	Ident       // "join", where it stands
	Networks    []Ident
	Through     []Ident // roles of the routers between them; none: they are not ours
	Description string
	Accepted
}

// join reads `join`: networks between which there is a way that no segment shows.
func (p *parser) join(first Token) Stmt {
	d := &JoinDecl{Ident: Ident{"join", first.Pos}}
	d.Networks = list(p, func() Ident { return p.reference("a network's or segment's name", p.form("join")) })
	if len(d.Networks) < 2 {
		p.report(first.errorf("syntax", "a join names two networks or more").Hinted("it is written: %s", p.form("join")))
	}
	if p.word("through") {
		d.Through = p.roles()
	}
	p.about(&d.Description, &d.Accepted)
	return d
}

// String is the join as a message says it.
func (d *JoinDecl) String() string { return "join " + d.ways() }

// ways is what it joins, and by whom.
func (d *JoinDecl) ways() string { return named("", d.Networks) + apart(through(d.Through)) }
