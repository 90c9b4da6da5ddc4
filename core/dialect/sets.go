package dialect

// A NamedSet is a set, or a map, that rules ask by its name.
type NamedSet struct {
	Table    string   // of which family and table; "" where sets are of no table
	Name     string   // as rules write it, without a mark in front
	Elements []string // as its listing writes them
	Changes  bool     // elements come and go by themselves
}

// A SetReader is a Reader of listings in which sets have names.
type SetReader interface {
	Reader
	// NamedSets gives the sets of one dump, in the order in which it lists them. The error is
	// about the text.
	NamedSets(d Dump) ([]NamedSet, error)
}
