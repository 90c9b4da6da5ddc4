package fence

import (
	"strings"
	"unicode/utf8"
)

// scanner takes a policy file apart into tokens.
type scanner struct {
	// immutable state
	file string
	text string

	// scanning state
	offset int // of the next character, in bytes
	line   int
	column int // in characters
	indent bool
	fresh  bool // nothing but blanks stood on this line so far

	problems []Problem
}

func newScanner(file, text string) *scanner {
	return &scanner{file: file, text: strings.TrimPrefix(text, "\ufeff"), line: 1, column: 1, fresh: true}
}

func (s *scanner) pos() Pos { return Pos{s.file, s.line, s.column} }

func (s *scanner) peek() (rune, int) {
	if s.offset >= len(s.text) {
		return -1, 0
	}
	return utf8.DecodeRuneInString(s.text[s.offset:])
}

func (s *scanner) advance() {
	r, n := s.peek()
	s.offset += n
	s.column++
	if r == '\n' {
		s.line++
		s.column, s.fresh, s.indent = 1, true, false
	}
}

// blanks passes over white space and comments.
func (s *scanner) blanks() {
	for {
		switch r, _ := s.peek(); r {
		case ' ', '\t':
			s.indent = s.indent || s.fresh
			s.advance()
		case '\r', '\n':
			s.advance()
		case '#':
			for r, _ := s.peek(); r != '\n' && r != -1; r, _ = s.peek() {
				s.advance()
			}
		default:
			return
		}
	}
}

func (s *scanner) next() Token {
	s.blanks()
	t := Token{Pos: s.pos(), First: s.fresh && !s.indent, Width: 1}
	s.fresh = false
	r, size := s.peek()
	start := s.offset
	switch {
	case r == -1:
		t.First = true
		return t
	case r == utf8.RuneError && size == 1:
		s.problems = append(s.problems, Errorf(t.Pos, 1, "not-utf8", "this byte (0x%02x) is no UTF-8 text", s.text[s.offset]).
			Hinted("save the file as UTF-8"))
		t.Kind = Bad
	case r == '"':
		return s.quoted(t)
	case r == ',':
		t.Kind = Comma
	case r == '=':
		t.Kind = Equals
	case r == '{':
		t.Kind = Open
	case r == '}':
		t.Kind = Close
	case strings.HasPrefix(s.text[s.offset:], "->"):
		t.Kind, t.Width = Arrow, 2
		s.advance()
	case isWord(r):
		for isWord(r) && !strings.HasPrefix(s.text[s.offset:], "->") {
			s.advance()
			r, _ = s.peek()
		}
		t.Kind, t.Text = Word, s.text[start:s.offset]
		t.Width = len(t.Text)
		if t.Text == ":" {
			t.Kind = Colon
		}
		return t
	default:
		t.Kind = Bad
	}
	s.advance()
	t.Text = s.text[start:s.offset]
	return t
}

func isWord(r rune) bool {
	return 'a' <= r && r <= 'z' || 'A' <= r && r <= 'Z' || '0' <= r && r <= '9' || r > 0 && strings.ContainsRune("@._:/*-+", r)
}

// quoted reads a text in double quotes; \" and \\ stand for a quote and a backslash.
func (s *scanner) quoted(t Token) Token {
	t.Kind = String
	var b strings.Builder
	s.advance()
	for {
		r, size := s.peek()
		switch {
		case r == '\n' || r == -1:
			t.Width = s.column - t.Pos.Column
			s.problems = append(s.problems, Errorf(t.Pos, t.Width, "open-quote", "this text is not closed on its line").
				Hinted(`put a " at its end`))
			t.Text = b.String()
			return t
		case r == '"':
			s.advance()
			t.Text, t.Width = b.String(), s.column-t.Pos.Column
			return t
		case r == '\\' && s.offset+1 < len(s.text) && strings.IndexByte(`"\`, s.text[s.offset+1]) >= 0:
			s.advance()
		case r == utf8.RuneError && size == 1:
			s.problems = append(s.problems, Errorf(s.pos(), 1, "not-utf8", "this byte (0x%02x) is no UTF-8 text", s.text[s.offset]).
				Hinted("save the file as UTF-8"))
		}
		_, size = s.peek()
		b.WriteString(s.text[s.offset : s.offset+size])
		s.advance()
	}
}
