// Package live reads what hosts say they have in force: reports as they are
// sent, and files that people made of listings by hand.
package live

import (
	"encoding/json"
	"fmt"

	"yellowfence.example/yfence/core/dialect"
	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/internal/api"
)

// Read gives all of a host's dumps as the one ruleset they are to its kernel.
// The error is about their text.
func Read(sp *packet.Space, f api.InForce) (*dialect.Ruleset, error) {
	all := &dialect.Ruleset{}
	for _, d := range f.Dumps {
		rs, err := nft.ReadJSON(sp, []byte(d.Text), f.Names)
		if err != nil && d.Kind != "" {
			err = fmt.Errorf("%s dump: %w", d.Kind, err)
		}
		if err != nil {
			return nil, err
		}
		all.Chains = append(all.Chains, rs.Chains...)
	}
	return all, nil
}

// OfFile tells a file's kind by its content: a report as `yfence report --print`
// gives it, or else a listing of rules.
func OfFile(data []byte) api.InForce {
	var r api.Report
	if json.Unmarshal(data, &r) == nil && r.Host != "" {
		return r.InForce
	}
	return api.InForce{Dumps: []api.Dump{{Text: string(data)}}}
}
