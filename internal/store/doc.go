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
package store
