// Package cli is the program yfence: one file per command, which holds its
// flags and what it prints.
//
//	os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr, os.Getenv))
//
// What a command needs of its surroundings it takes from app: streams, the environment, the
// service's client. Commands compute nothing: they read files, call core or the service, and
// print. With --output json they print what other programs may rely on; what they print for
// people may change.
//
// The exit code is 0 where there is nothing to report, 1 where something was found, and 2 where
// something went wrong, such as input that cannot be read.
//
// Tests are scripts that read like a session at a terminal, in testdata.
//
// # How a command is made
//
// Each has a function of app that gives a *cobra.Command, in the file of its name; cli.go lists them in
// the groups that the help shows. takes.go says which of the flags that many commands share it takes:
// a flag that would do nothing is refused with a sentence. A command finds out what it works on in this
// order: flags, then the environment, then the config file; on files, the policy of the folder it is
// run in.
//
// All that is printed goes through one writer (shown.go) that lets no control character of a foreign
// name reach a terminal. Colours say nothing that words do not say, and are left out where the output
// is no terminal.
//
// Commands that change the rules of a host run on that host (here.go, local.go); the same change asked
// of the service is a task which the host's agent has the very same command carry out.
//
// # Where to look
//
//   - cli.go, takes.go, config.go, complete.go, files.go: what all commands have in common;
//   - paint.go, shown.go, sarif.go, words.go, examples.go: what is printed;
//   - check.go, ask.go, rules.go, compare.go, tidy.go, new.go, adopt.go, lsp.go: on files, most of them
//     by the service too;
//   - publish.go, revisions.go, fleet.go, waves.go, lists.go, tokens.go, probe.go: with the service;
//   - settle.go, keep.go, copies.go, boot.go, report.go, attend.go, local.go, live.go: on a host;
//   - serve.go, clouds.go, units.go: the service itself.
package cli
