package policy

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/source"
)

// MayChange says what of a change from one state of a policy's files to another a person may
// not make: a problem for each file. Who may is what the files said before the change, so that
// nobody gives themselves a right; a policy or part that names nobody may be changed by all.
func MayChange(before, after []Source, name string) (problems []source.Problem) {
	// Who may is what was said before the change: nobody gives it to himself in the same change.
	var files []*fence.File
	for _, s := range before {
		if strings.HasSuffix(s.Name, ".fence") {
			file, _ := fence.Parse(s.Name, s.Text)
			files = append(files, file)
		}
	}
	var whole []string
	type part struct {
		name, folder string
		by           []string
	}
	var parts []part
	people := func(labels []fence.Label) (names []string) {
		for _, l := range labels {
			names = append(names, l.Text)
		}
		return names
	}
	for _, f := range files {
		for _, stmt := range f.Stmts {
			switch d := stmt.(type) {
			case *fence.PolicyDecl:
				whole = people(d.By)
			case *fence.PartDecl:
				parts = append(parts, part{d.Name, d.Folder.Text, people(d.By)})
			}
		}
	}
	// Each file that came, went or is otherwise is looked at by itself, lists included.
	was, is := map[string]string{}, map[string]string{}
	for _, s := range before {
		was[s.Name] = s.Text
	}
	for _, s := range after {
		is[s.Name] = s.Text
	}
	names := slices.Collect(maps.Keys(was))
	for name := range is {
		if _, known := was[name]; !known {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	for _, file := range names {
		old, had := was[file]
		now, has := is[file]
		if old == now && had == has {
			continue
		}
		// A file of a part is its people's; where the part names none, those of the whole policy's.
		may, of := whole, "of no part"
		for _, p := range parts {
			if strings.HasPrefix(file, p.folder+"/") {
				if may, of = p.by, "of the part "+p.name; may == nil {
					may = whole
				}
			}
		}
		if may == nil || slices.Contains(may, name) {
			continue
		}
		verb := "change"
		if !had {
			verb = "add"
		} else if !has {
			verb = "take away"
		}
		pr := source.Errorf(source.Pos{File: file, Line: firstChange(old, now), Column: 1}, 1, "not-theirs",
			"%s may not %s %s, which is %s", name, verb, file, of).
			Hinted("%s", fmt.Sprintf("have it changed by %s", strings.Join(may, " or ")))
		problems = append(problems, pr)
	}
	return problems
}

// firstChange is the first line in which two texts differ.
func firstChange(a, b string) int {
	before, after := strings.Split(a, "\n"), strings.Split(b, "\n")
	for i := range min(len(before), len(after)) {
		if before[i] != after[i] {
			return i + 1
		}
	}
	return max(1, min(len(before), len(after)))
}
