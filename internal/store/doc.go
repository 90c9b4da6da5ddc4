// Package store keeps what the service knows in MariaDB. Nothing it is given is
// acknowledged before it is committed.
//
//	st, err := store.Open(ctx, dsn)         // and brings the schema up to date
//
// Each file holds the queries of one subject. What belongs together is one transaction, tried
// again where the database asks for that (inTx). The schema is in migrations, one file a step,
// which are never changed once released.
//
// Connections are of several classes (For): what people wait for never waits behind work that
// nobody waits for.
//
// # What the database may do to us
//
// It may be away, slow, full, or restarted in the middle of a transaction. An error is one of three:
// ErrBusy and ErrAway, after which the transaction was not made and is tried again for a while; and
// ErrUnclear, where the connection broke while it was being committed and nobody knows. What must happen
// exactly once therefore notes in the same transaction that it was made, so that the next try finds out
// whether it was (exactlyOnce).
//
// Attempts are bounded in time, lists in rows, and each query has an index for what it asks: a test
// explains every query on a large fleet and fails where one goes over a whole table
// (TestNothingIsScanned).
//
// # Where to look
//
//   - store.go, tx.go, migrate.go: connections, transactions, the schema;
//   - policy.go, content.go: revisions, generations, pairs, and texts by their hashes;
//   - reports.go, attending.go, delta.go: what hosts say; tasks.go, waves.go: what they are asked;
//   - tokens.go, people.go, keys.go, seal.go: who may ask, and who signs; keyed.go: requests that are done once;
//   - record.go, events.go, proposals.go: what was done, who is told, what waits for approval; clouds.go, prune.go,
//     sizes.go: the rest.
package store
