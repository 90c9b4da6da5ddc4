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
package fleet
