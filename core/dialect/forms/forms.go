package forms

import (
	"slices"

	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/group"
	"yellowfence.example/yfence/core/dialect/iptables"
	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/dialect/portable"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
)

// All are the dialects that are written.
var All = []dialect.Form{nft.Form{}, iptables.Form{}, portable.Form{}}

// Readers read all kinds of dumps, in the order in which they are asked whether a text is
// theirs, and in which dumps of one host are read.
var Readers = []dialect.Reader{dialect.Routes{}, iptables.Dumps{}, portable.Dumps, group.Dumps, nft.Dumps{}}

// Ours says that a chain is one that a form of ours writes and owns.
func Ours(c *kernel.Chain) bool {
	return slices.ContainsFunc(All, func(f dialect.Form) bool { return f.Ours(c) })
}

// Of is the dialect of a host; for one without a filter of its own, the first.
func Of(h *fleet.Host) dialect.Form {
	for _, f := range All {
		if f.Name() == h.Dialect {
			return f
		}
	}
	return All[0]
}

// Writing is the dialect that writes a kind of files; nil where none does.
func Writing(kind dialect.Kind) dialect.Form {
	for _, f := range All {
		if slices.Contains(f.Files(), kind) {
			return f
		}
	}
	return nil
}

// Files are the kinds of files that dialects write.
func Files() (kinds []dialect.Kind) {
	for _, f := range All {
		kinds = append(kinds, f.Files()...)
	}
	return kinds
}

// Listings are the kinds of dumps that can be read, in the order in which those of one host
// are read.
func Listings() (all []dialect.Listing) {
	for _, r := range Readers {
		all = append(all, r.Listings()...)
	}
	return all
}

// Reading is who reads a kind of dumps; nil where nobody does.
func Reading(kind dialect.Kind) dialect.Reader {
	for _, r := range Readers {
		if slices.ContainsFunc(r.Listings(), func(l dialect.Listing) bool { return l.Kind == kind }) {
			return r
		}
	}
	return nil
}

// Sniff is the kind of a dump, by its text. Whatever nobody knows is taken for the last kind.
func Sniff(text []byte) (kind dialect.Kind) {
	for _, r := range Readers {
		if kind, ok := r.Sniff(text); ok {
			return kind
		}
	}
	return ""
}
