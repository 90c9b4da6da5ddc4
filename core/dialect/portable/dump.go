package portable

import (
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/kernel"
)

// Listing is the kind of dumps that Dumps reads.
const Listing dialect.Kind = "portable"

// Dumps reads lists of portable rules, each as a Document.
var Dumps = dialect.Documents{Kind: Listing, Is: Is, From: func(r *dialect.Reading, text []byte) (*kernel.Ruleset, error) {
	doc, err := Parse(text)
	if err != nil {
		return nil, err
	}
	return Read(r.Space, doc)
}}
