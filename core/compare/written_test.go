package compare_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/compare"
	"yellowfence.example/yfence/core/policy/policytest"
)

func TestWritten(t *testing.T) {
	const head = "policy p language 1\nsegment quay = 10.40.0.0/16\nsegment hill = 10.60.0.0/16\nrole red\nrole blue\nrole green\n"
	before := policytest.Resolve(t, policytest.Fleet, head+
		"allow a: red -> blue : ssh\nallow b: red -> blue : http on quay\nallow c: red -> blue : smtp through green\noff block d: red -> "+
		"blue : any\nallow e: red -> blue : ntp guard\nallow f: red -> blue : tcp 99 on quay\nblock g: red -> blue : tcp 98\nexpect a: "+
		"never red -> blue : tcp 97\nallow gone: red -> blue : tcp 96\n")
	after := policytest.Resolve(t, policytest.Fleet, head+
		"off allow a: red -> blue : ssh\nallow b: red -> blue : http\nallow c: red -> blue : smtp\nblock d: red -> blue : any\nallow e: "+
		"red -> blue : ntp\nallow f: red -> blue : tcp 99 on hill, quay\nblock g: red -> blue : tcp 98 on trial until 2035-01-31\noff "+
		"expect a: never red -> blue : tcp 97 because \"x\"\nallow new: red -> blue : tcp 95\n")
	require.Equal(t, []string{
		"allow a is off now", "allow b no longer says on quay", "allow c no longer says through green", "allow e is no guard any more",
		"allow f says on hill, quay now, and said on quay",
		"block d is no longer off", "block g says on trial until 2035-01-31 now", "expect a is off now",
	}, compare.Written(before, after))
	require.Equal(t, []string{
		"allow a is no longer off", "allow b says on quay now", "allow c says through green now",
		"allow f says on quay now, and said on hill, quay", "block d is off now",
		"block g no longer says on trial until 2035-01-31", "expect a is no longer off",
	}, compare.Written(after, before))
}
