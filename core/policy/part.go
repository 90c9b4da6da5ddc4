package policy

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/source"
)

// A Part is a folder of the policy with names of its own.
type Part struct {
	Name        string
	Folder      string
	Description string
	For         []*Role // whose hosts its rules may speak of besides those of its own roles
	Limited     bool    // For says so
	By          []string
	Pos         source.Pos

	decl *fence.PartDecl
}

// mostParts is how many parts a policy may have.
const mostParts = 200

// Holds says that a file of the policy is the part's: it lies in the part's folder.
func (p *Part) Holds(file string) bool { return strings.HasPrefix(file, p.Folder+"/") }

// partOf is the part that a file is of; nil if it is of the whole.
func partOf(parts []*Part, file string) *Part {
	for _, p := range parts {
		if p.Holds(file) {
			return p
		}
	}
	return nil
}

// parts finds the parts of a policy, and has their files say their names in full.
func (r *resolver) parts(files []*fence.File) {
	for _, file := range files {
		for _, stmt := range file.Stmts {
			d, ok := stmt.(*fence.PartDecl)
			if !ok {
				continue
			}
			p := &Part{Name: d.Name, Folder: path.Clean(d.Folder.Text), Description: d.Description, Limited: d.For != nil, Pos: d.Pos,
				decl: d}
			for _, who := range d.By {
				p.By = append(p.By, who.Text)
			}
			at := fence.Ident{Name: d.Folder.Text + `""`, Pos: d.Folder.Pos}
			if p.Folder != d.Folder.Text || strings.HasPrefix(p.Folder, "/") || strings.HasPrefix(p.Folder, "..") || p.Folder == "." {
				r.errorf(at, "part", "%q is no folder of the policy's",
					d.Folder.Text).Hint = "write it as from the policy's folder: \"teams/radiology\""
				continue
			}
			if len(r.pol.Parts) == mostParts {
				r.errorf(d.Declared(), "policy-size", "the policy has more than %d parts", mostParts).Hint = "put some of them together"
				return
			}
			clash := false
			for _, before := range r.pol.Parts {
				if before.Name == p.Name {
					clash = true
					r.errorf(d.Declared(), "twice", "two parts are named %q", p.Name).Hint = "the other is at " + before.Pos.String()
				} else if strings.HasPrefix(p.Folder+"/", before.Folder+"/") || strings.HasPrefix(before.Folder+"/", p.Folder+"/") {
					clash = true
					r.errorf(at, "part", "the folders of %q and %q lie in one another", p.Name,
						before.Name).Hint = "give each part a folder that is no other's"
				}
			}
			if !slices.ContainsFunc(files, func(f *fence.File) bool { return p.Holds(f.Name) }) {
				r.errorf(at, "part", "the folder %q holds no .fence file",
					d.Folder.Text).Hint = "give the part its first file, or take it away"
			}
			if !clash {
				r.pol.Parts = append(r.pol.Parts, p)
			}
		}
	}
	type name struct {
		part, name string
		rule       bool
	}
	own := map[name]bool{}
	for _, file := range files {
		if p := partOf(r.pol.Parts, file.Name); p != nil {
			r.whole(p, file)
			for _, ref := range fence.References(file) {
				if ref.Decl {
					own[name{p.Name, fence.Bare(ref.Name), ref.Rule}] = true
				}
			}
		}
	}
	for _, file := range files {
		if p := partOf(r.pol.Parts, file.Name); p != nil {
			fence.Qualify(file, p.Name, func(n string, rule bool) bool { return own[name{p.Name, n, rule}] })
		}
	}
}

// whole refuses in a part what is the whole policy's to say.
func (r *resolver) whole(p *Part, file *fence.File) {
	for _, stmt := range file.Stmts {
		what := ""
		switch stmt.(type) {
		case *fence.PolicyDecl:
			what = "the policy's name"
		case *fence.PartDecl:
			what = "a part"
		case *fence.GroundDecl:
			what = "the ground"
		case *fence.JoinDecl:
			what = "a join"
		default:
			continue
		}
		r.errorf(stmt.Declared(), "part", "%s is the whole policy's to say, and not the part %s's", what,
			p.Name).Hint = "say it in a file outside of " + p.Folder
	}
}

// partsFor looks up the roles that parts are for.
func (r *resolver) partsFor() {
	for _, p := range r.pol.Parts {
		p.For = r.through(p.decl.For)
	}
}

// hostsOf is what a part's statements may speak of: hosts of its own roles, and of those that it is for.
func (r *resolver) hostsOf(p *Part) map[*fleet.Host]bool {
	hosts := map[*fleet.Host]bool{}
	for _, role := range r.pol.Roles {
		if strings.HasPrefix(role.Name, p.Name+".") || slices.Contains(p.For, role) {
			for _, h := range role.Hosts {
				hosts[h] = true
			}
		}
	}
	return hosts
}

// spoken refuses statements of parts that are about others than their hosts at both ends, and
// exceptions to others' blocks.
func (r *resolver) spoken() {
	for _, p := range r.pol.Parts {
		may := r.hostsOf(p)
		mine := func(s Side) bool {
			return s.Named && len(s.Outside().Ranges()) == 0 && !slices.ContainsFunc(s.Hosts, func(h *fleet.Host) bool { return !may[h] })
		}
		told := func(kind, name string, pos source.Pos, ends ...Side) {
			if p.Holds(pos.File) && p.Limited && !slices.ContainsFunc(ends, mine) {
				r.errorf(fence.Ident{Name: fence.Bare(name), Pos: pos}, "part",
					"the %s %q speaks at no end of hosts of the part %s alone", kind, name, p.Name).Hint =
					fmt.Sprintf("name one of its roles there, or one that %s says it is for", p.Pos)
			}
		}
		for _, rule := range r.pol.Rules {
			told(strings.Fields(rule.Title())[0], rule.Name, rule.Pos, rule.From, rule.To)
			for i, b := range rule.Over {
				if p.Holds(rule.Pos.File) && !p.Holds(b.Pos.File) {
					r.errorf(rule.Decl.Over[i], "part", "the block %q is not the part %s's, and takes no exception from it", b.Name,
						p.Name).Hint = "whoever may change the block can make the exception"
				}
			}
		}
		for _, q := range r.pol.Redirects {
			told("redirect", q.Name, q.Pos, q.To, routersSide(q.Through))
		}
		for _, m := range r.pol.Masquerades {
			told("masquerade", m.Name, m.Pos, routersSide(m.Through))
		}
		for i := range r.pol.Leaves {
			l := &r.pol.Leaves[i]
			told("leave", l.Name, l.Pos, SideOf(l.Hosts()))
		}
	}
}

// routersSide is the hosts of roles; nobody where there are none.
func routersSide(roles []*Role) Side {
	var hosts []*fleet.Host
	for _, role := range roles {
		hosts = append(hosts, role.Hosts...)
	}
	s := SideOf(hosts)
	s.Named = roles != nil
	return s
}
