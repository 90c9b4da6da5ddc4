package group

import (
	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/kernel"
)

// Listing is the kind of dumps that Dumps reads.
const Listing dialect.Kind = "groups"

// Dumps reads security groups, each as a Document.
var Dumps = dialect.Documents{Kind: Listing, Is: Is, From: func(r *dialect.Reading, text []byte) (*kernel.Ruleset, error) {
	doc, err := Parse(text)
	if err != nil {
		return nil, err
	}
	return Read(r.Space, r.Host, r.Fleet, doc)
}}
