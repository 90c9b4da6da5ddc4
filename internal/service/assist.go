package service

import (
	"context"
	"slices"
	"unicode/utf8"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/assist"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/source"
)

// assist helps whoever writes a policy: what stands at a place, and what could.
func (s *Service) assist(ctx context.Context, in *struct{ Body api.AssistRequest }) (*struct{ Body api.Assisted }, error) {
	m, err := s.newest(ctx)
	if err != nil {
		return nil, s.broken("reading the policy", err)
	}
	req := in.Body
	out := api.Assisted{Version: api.Version, Complete: []api.Completion{}}
	if err := s.computed(ctx, s.asking, "reading the policy", func(packet.Budget) error {
		a := assist.Analyse(req.Files, m.fleet)
		pos := source.Pos{File: req.File, Line: req.Line, Column: req.Column}
		out.Hover = a.Hover(pos)
		for _, c := range a.Complete(pos) {
			out.Complete = append(out.Complete, api.Completion{Text: c.Text, Kind: c.Kind, Note: c.Note})
		}
		if d, ok := a.Definition(pos); ok {
			at := placeOf(d)
			out.Defined = &at
		}
		out.Uses = placesOf(a.Uses(pos))
		if req.Name != "" {
			out.Renamed, out.Refused = renamed(a, pos, req.Name)
		}
		if req.Tidy {
			out.Tidied = tidied(req.Files, req.File)
		}
		return nil
	}); err != nil {
		return nil, err
	}
	return &struct{ Body api.Assisted }{out}, nil
}

// renamed is what to change for the name at a place to become another, or why it cannot. Roles are the fleet file's too.
func renamed(a *assist.Analysis, pos source.Pos, name string) (places []api.Place, refused string) {
	all, err := a.Rename(pos, name)
	switch {
	case err != nil:
		return nil, err.Error()
	case a.Kind(pos) == "role":
		return nil, "the fleet file names this role too; change both with yfence lsp in an editor, and publish them together"
	}
	return placesOf(all), ""
}

// tidied is a file as it is laid out; nil where it cannot be read.
func tidied(files []check.Source, name string) *string {
	i := slices.IndexFunc(files, func(f check.Source) bool { return f.Name == name })
	if i < 0 {
		return nil
	}
	tree, problems := fence.Parse(name, files[i].Text)
	if len(problems) > 0 {
		return nil
	}
	text := fence.Print(tree)
	return &text
}

// placeOf is where a name stands.
func placeOf(i fence.Ident) api.Place {
	return api.Place{File: i.Pos.File, Line: i.Pos.Line, Column: i.Pos.Column, Width: utf8.RuneCountInString(i.Name)}
}

func placesOf(all []fence.Ident) (out []api.Place) {
	for _, i := range all {
		out = append(out, placeOf(i))
	}
	return out
}
