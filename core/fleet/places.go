package fleet

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"yellowfence.example/yfence/core/source"
)

// Places is where a role or a segment stands in a fleet file, in whatever format, for an editor that
// gives it another name. The error says where it cannot be told.
func Places(file string, data []byte, kind, name string) (places []source.Pos, err error) {
	fl, problems := Read(file, data)
	if source.HasErrors(problems) {
		return nil, fmt.Errorf("%s has mistakes: mend those first", file)
	}
	lines := strings.Split(string(data), "\n")
	word := regexp.MustCompile(`(^|[^a-z0-9-])` + regexp.QuoteMeta(name) + `($|[^a-z0-9-])`)
	find := func(line int, from, to int) bool { // bytes of a line
		at := word.FindStringSubmatchIndex(lines[line-1][from:to])
		if at == nil {
			return false
		}
		places = append(places, source.Pos{File: file, Line: line, Column: 1 + utf8.RuneCountInString(lines[line-1][:from+at[3]])})
		return true
	}
	if FormatOf(file, data) == CSV { // a host's roles stand on each of its lines
		for n, line := range lines[1:] {
			first := strings.IndexByte(line, ',')
			second := strings.IndexByte(line[first+1:], ',')
			if kind == "role" && first >= 0 && second >= 0 {
				find(n+2, first+1, first+1+second)
			}
		}
		return places, nil
	}
	var said []source.Pos
	for _, h := range fl.Hosts {
		if i := slices.Index(h.Roles, name); i >= 0 && kind == "role" {
			said = append(said, h.RolePos[i])
		}
		for _, in := range h.Interfaces {
			if in.Segment == name && kind == "segment" {
				said = append(said, in.SegmentPos)
			}
		}
	}
	for _, pos := range said {
		line := lines[pos.Line-1]
		from := 0
		for range pos.Column - 1 {
			_, size := utf8.DecodeRuneInString(line[from:])
			from += size
		}
		if !find(pos.Line, max(from-1, 0), len(line)) {
			return nil, fmt.Errorf("the %s %s is not written out at %s:%d: give it its new name there by hand first", kind, name, file,
				pos.Line)
		}
	}
	return places, nil
}
