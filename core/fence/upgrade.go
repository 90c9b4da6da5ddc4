package fence

import (
	"fmt"
	"slices"
	"strings"
)

// Upgrade rewrites a policy's files from before the language was settled, so that they mean what
// they meant. Words that are others now Print writes by itself; but an `only` once also promised
// that what it speaks of passes, which a line of its own says now. Running it again changes nothing.
func Upgrade(files []*File) {
	names, always := map[string]bool{}, map[string]bool{}
	each := func(f func(*Expectation)) {
		for _, file := range files {
			for _, s := range file.Stmts {
				if e, ok := s.(*Expectation); ok {
					f(e)
				} else if _, isRule := s.(*Rule); isRule {
					names[s.Declared().Name] = true
				}
			}
		}
	}
	each(func(e *Expectation) {
		if names[e.Name] = true; e.Off != nil && e.Because == "" { // which it must say now
			e.Because = "no reason was given"
		}
		if e.Kind == Always {
			anywhere := *e // which this may have made of an `only` that said a segment
			anywhere.On = nil
			always[e.spoken()], always[e.Name+" "+anywhere.spoken()] = true, true
		}
	})
	for _, file := range files {
		for i := len(file.Stmts) - 1; i >= 0; i-- {
			e, ok := file.Stmts[i].(*Expectation)
			if !ok || e.Kind != Only || always[e.spoken()] || always[e.Name+made+" "+e.spoken()] {
				continue
			}
			works := *e
			works.Kind, works.Name = Always, unused(e.Name, names)
			e.On = nil // nobody else's passed anywhere
			always[works.spoken()], always[e.spoken()] = true, true
			file.Stmts = slices.Insert(file.Stmts, i+1, Stmt(&works))
			end := file.Lines[i][1]
			file.Lines = slices.Insert(file.Lines, i+1, [2]int{end, end})
		}
	}
}

// made is how the name ends of what an `only` once promised besides.
const made = "-works"

// spoken is what an expectation is about.
func (e *Expectation) spoken() string {
	s := e.From.String() + " -> " + e.To.String() + " : " + services(e.Services)
	if e.Within != nil {
		s += " within " + Peers{Items: e.Within}.String()
	}
	return s + named(" on ", e.On) + named(" through ", e.Through)
}

// unused is a name made of another that nothing has yet.
func unused(name string, taken map[string]bool) string {
	const most = 63
	for n := 1; ; n++ {
		suffix := made
		if n > 1 {
			suffix = fmt.Sprintf("%s-%d", made, n)
		}
		short := name[:min(len(name), most-len(suffix))]
		if name := strings.TrimRight(short, "-") + suffix; !taken[name] {
			taken[name] = true
			return name
		}
	}
}
