// Package lsp speaks the Language Server Protocol (3.17) on standard input and
// output: an editor's window on core/assist and core/check.
//
//	err := lsp.Serve(ctx, os.Stdin, os.Stdout, load) // until the editor ends it
//
// It holds the texts that the editor has open, and takes the others of the folder from load.
// Positions of the protocol count UTF-16 units, ours count letters.
//
// # How it keeps up
//
// The editor sends whole texts, and is answered from the texts as they stand then, one question after
// the other. What is found in any file of the folder is told after each change, and what was told of a
// file before is taken back when it is mended. A text is never written here: the editor does that.
package lsp
