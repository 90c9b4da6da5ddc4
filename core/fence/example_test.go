package fence_test

import (
	"fmt"

	"yellowfence.example/yfence/core/fence"
)

// A policy's text becomes a tree, and a tree its one standard layout.
func Example() {
	file, problems := fence.Parse("charts.fence", "policy charts language 1\nrole charts \"serves charts\"\n"+
		"allow web: everywhere -> charts : https # for everybody\n")
	fmt.Println(len(problems), "problems")
	fmt.Print(fence.Print(file))
	// Output:
	// 0 problems
	// policy charts language 1
	// role charts             "serves charts"
	// allow web:              everywhere -> charts : https  # for everybody
}

// Whatever is wrong is told with its place, and the rest is read.
func ExampleParse_mistakes() {
	_, problems := fence.Parse("charts.fence", "policy charts language 1\nallow web: everywhere -> charts : htps 80 x\nrole charts\n")
	for _, p := range problems {
		fmt.Printf("%s:%d:%d %s\n", p.File, p.Line, p.Column, p.Message)
	}
	// Output:
	// charts.fence:2:40 expected a modifier or the end of the statement, found "80"
}
