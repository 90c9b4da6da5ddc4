// Package forms lists the dialects: the forms of rules that we write and read.
package forms

import (
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/iptables"
	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/dialect/portable"
	"yellowfence.example/yfence/core/fleet"
)

// All are the dialects.
var All = []dialect.Form{nft.Form{}, iptables.Form{}, portable.Form{}}

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
func Writing(kind string) dialect.Form {
	switch kind {
	case "nft":
		return nft.Form{}
	case "iptables", "ip6tables", "ipset":
		return iptables.Form{}
	case "portable":
		return portable.Form{}
	}
	return nil
}

// Kinds are the kinds of files that dialects write.
var Kinds = []string{"nft", "ipset", "iptables", "ip6tables", "portable"}
