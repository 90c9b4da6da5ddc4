package nfttest

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/packet"
)

// Written is the text that loads a plan.
func Written(t testing.TB, sp *packet.Space, plan *compile.Plan) string {
	t.Helper()
	files, err := nft.Form{}.Write(sp, plan)
	require.NoError(t, err)
	return files[0].Text
}
