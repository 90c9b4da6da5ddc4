// Package record is the record of who did what: its entries, the tree over them that shows when one
// was changed or taken away, and the proofs of it. It keeps nothing itself.
//
//	grown, err := record.Grow(size, body, hashes) // what to store with the next entry
//	note := key.Sign(record.Head{Origin: key.Origin(), Size: size + 1, Root: grown.Root})
//
//	v, err := record.Verify(key.Public(), earlier...)
//	for … { wrong := v.Add(row) } // names the first entry that is not as it was recorded
//	wrong := v.End(checkpoint.Size)
//
// # How it holds
//
// Entries are the leaves of a Merkle tree as in RFC 6962, section 2.1. With each entry a head is signed:
// how many entries there are, and the root over all of them. Whoever changes, removes, reorders or adds
// an entry behind the service's back would have to sign every head from there on anew, and a checkpoint
// (a head that was kept elsewhere) shows even that. Heads are signed notes with the lines that
// checkpoints of transparency logs have: the name of the log, the size, the root in base64.
package record
