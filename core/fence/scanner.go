package fence

import (
	"strings"
	"unicode/utf8"

	"yellowfence.example/yfence/core/source"
)

// scanner takes a policy file apart into tokens and comments.
type scanner struct {
	// immutable state
	file string
	text string

	// scanning state
	offset    int // of the next byte
	line      int
	lineStart int // offset at which the line begins
	wide      int // how many bytes of the line so far were no character of their own
	indent    bool
	fresh     bool // nothing but blanks stood on this line so far

	comments []Comment
	problems []source.Problem
}

// A Comment is one comment, from its # to the end of the line.
type Comment struct {
	Text string // without blanks at its end
	Line int
	Own  bool // nothing stands before it on its line
}

// newScanner begins at the first letter of a file, behind a mark of its byte order.
func newScanner(file, text string) *scanner {
	return &scanner{file: file, text: strings.TrimPrefix(text, "\ufeff"), line: 1, fresh: true}
}

// pos is where the next token begins. Columns count letters, not bytes.
func (s *scanner) pos() source.Pos {
	return source.Pos{File: s.file, Line: s.line, Column: s.offset - s.lineStart - s.wide + 1}
}

// newline goes to the next line.
func (s *scanner) newline() {
	s.offset++
	s.line++
	s.lineStart, s.wide, s.fresh, s.indent = s.offset, 0, true, false
}

// blanks passes over white space and comments.
func (s *scanner) blanks() {
	for s.offset < len(s.text) {
		switch s.text[s.offset] {
		case ' ', '\t':
			s.indent = s.indent || s.fresh
			s.offset++
		case '\r':
			s.offset++
		case '\n':
			s.newline()
		case '#':
			end := strings.IndexByte(s.text[s.offset:], '\n')
			if end < 0 {
				end = len(s.text) - s.offset
			}
			text := s.text[s.offset : s.offset+end]
			s.comments = append(s.comments, Comment{strings.TrimRight(text, " \t\r"), s.line, s.fresh})
			if utf8.ValidString(text) {
				s.offset += end
				continue
			}
			for stop := s.offset + end; s.offset < stop; {
				s.character()
			}
		default:
			return
		}
	}
}

// wordBytes are the bytes that words are made of.
var wordBytes = func() (table [256]bool) {
	for _, c := range []byte("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789@._:/*-+") {
		table[c] = true
	}
	return table
}()

// next is the next token; EOF at the end, as often as it is asked for.
func (s *scanner) next() Token {
	s.blanks()
	t := Token{Pos: s.pos(), First: s.fresh && !s.indent, Fresh: s.fresh, Width: 1}
	s.fresh = false
	// The end begins a statement too, so that nothing is read past it.
	if s.offset >= len(s.text) {
		t.First = true
		return t
	}
	start := s.offset
	switch c := s.text[s.offset]; {
	case c == '"':
		return s.quoted(t)
	case c == '-' && strings.HasPrefix(s.text[s.offset:], "->"):
		t.Kind, t.Width = Arrow, 2
		s.offset += 2
	// A word ends before an arrow, which is written without a blank as often as with one.
	case wordBytes[c]:
		for s.offset < len(s.text) && wordBytes[s.text[s.offset]] &&
			(s.text[s.offset] != '-' || !strings.HasPrefix(s.text[s.offset:], "->")) {
			s.offset++
		}
		t.Kind, t.Text, t.Width = Word, s.text[start:s.offset], s.offset-start
		if t.Text == ":" {
			t.Kind = Colon
		}
		return t
	case c == ',':
		t.Kind = Comma
		s.offset++
	case c == '=':
		t.Kind = Equals
		s.offset++
	case c == '{':
		t.Kind = Open
		s.offset++
	case c == '}':
		t.Kind = Close
		s.offset++
	default:
		t.Kind = Bad
		s.character()
	}
	t.Text = s.text[start:s.offset]
	return t
}

// character passes over one character, which may be of several bytes.
func (s *scanner) character() {
	r, size := utf8.DecodeRuneInString(s.text[s.offset:])
	if r == utf8.RuneError && size == 1 {
		s.problems = append(s.problems, source.Errorf(s.pos(), 1, "not-utf8", "this byte (0x%02x) is no UTF-8 text", s.text[s.offset]).
			Hinted("save the file as UTF-8"))
	}
	s.offset += size
	s.wide += size - 1
}

// quoted reads a text in double quotes; \" and \\ stand for a quote and a backslash.
func (s *scanner) quoted(t Token) Token {
	t.Kind = String
	s.offset++
	// Most texts are plain: they stand in the file as they are meant.
	for i := s.offset; i < len(s.text); i++ {
		c := s.text[i]
		if c == '"' {
			t.Text, t.Width = s.text[s.offset:i], i-s.offset+2
			s.offset = i + 1
			return t
		}
		if c == '\\' || c == '\n' || c >= utf8.RuneSelf {
			break
		}
	}
	var b strings.Builder
	for s.offset < len(s.text) && s.text[s.offset] != '\n' {
		switch c := s.text[s.offset]; {
		case c == '"':
			s.offset++
			t.Text, t.Width = b.String(), s.pos().Column-t.Pos.Column
			return t
		case c == '\\' && s.offset+1 < len(s.text) && (s.text[s.offset+1] == '"' || s.text[s.offset+1] == '\\'):
			b.WriteByte(s.text[s.offset+1])
			s.offset += 2
		default:
			start := s.offset
			s.character()
			b.WriteString(s.text[start:s.offset])
		}
	}
	t.Text, t.Width = b.String(), s.pos().Column-t.Pos.Column
	s.problems = append(s.problems, source.Errorf(t.Pos, t.Width, "open-quote",
		"this text is not closed on its line").Hinted(`put a " at its end`))
	return t
}
