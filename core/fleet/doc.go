// Package fleet knows the hosts: their roles, interfaces and addresses. It reads
// fleet files, and reports every mistake in one with its place.
//
//	fl, problems := fleet.Read("fleet.json", data)      // JSON, YAML or CSV, by name or text
//	fl.Host("charts-01").Addresses()                    // of all its interfaces
//	data, err := fleet.Write(fl, fleet.YAML)
//
// A fleet file may be of 64 MiB (MaxFile). It is read host by host, in any of the formats, so
// that what it takes in memory is the hosts and not the text. What is wrong with a host is told
// with its line and column, and a fleet with problems is never used.
//
// Merge and Changes are for those who put a fleet together from several sources, and want to
// know what that changes.
//
// # Reading without holding the text
//
// A tree (tree.go) is a document with the place of everything in it, whichever the format; one decoder
// makes hosts of trees (read.go). A large file is never one tree: the readers of each format hand
// over a host as soon as it is complete, and forget its tree. YAML is the costly one: its library takes
// many times the text, so that a large file is cut where the items of its list of hosts begin, and
// each is read by itself (yaml.go).
//
// Every name and number is bounded, and so is how deep a document may be: a fleet file comes from
// outside as a request does.
package fleet
