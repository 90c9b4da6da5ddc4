package fence

// Tokens takes a policy file apart, sound or not, as an editor colours it: the pieces in order, and the
// comments.
func Tokens(file, text string) (tokens []Token, comments []Comment) {
	s := newScanner(file, text)
	for t := s.next(); t.Kind != EOF; t = s.next() {
		tokens = append(tokens, t)
	}
	return tokens, s.comments
}
